"""Changes to people; each checks that a steward makes it."""

from __future__ import annotations

from django.db import transaction

from veduta.core.errors import VedutaError
from veduta.web.accounts.access import must_steward
from veduta.web.accounts.forms import PersonChangeForm, PersonForm, get_groups
from veduta.web.accounts.models import User


@transaction.atomic
def add_person(steward: User, form: PersonForm) -> User:
    must_steward(steward)
    person = form.save()
    person.groups.set(get_groups(form.cleaned_data["groups"]))
    return person


@transaction.atomic
def change_person(steward: User, form: PersonChangeForm) -> User:
    """Save a person's details. Raises VedutaError if it would leave no active steward."""
    must_steward(steward)
    person: User = form.save(commit=False)
    others = User.objects.filter(role=User.Role.STEWARD, is_active=True).exclude(pk=person.pk)
    if not (person.is_steward and person.is_active) and not others.exists():
        raise VedutaError("There must be at least one active steward.", hint="Make somebody else a steward first.")
    if form.cleaned_data["new_password"]:
        person.set_password(form.cleaned_data["new_password"])
    person.save()
    person.groups.set(get_groups(form.cleaned_data["groups"]))
    return person
