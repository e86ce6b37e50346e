import re
from typing import Any

from django import forms
from django.contrib.auth.forms import AuthenticationForm, BaseUserCreationForm, PasswordChangeForm
from django.contrib.auth.models import Group
from django.contrib.auth.password_validation import validate_password

from veduta.web.accounts.models import User


class SignInForm(AuthenticationForm):
    error_messages = {
        "invalid_login": "That name and password do not belong together. Mind capital letters.",
        "inactive": "This account has been switched off. Ask a steward.",
    }


class OwnPasswordForm(PasswordChangeForm):
    error_messages = {
        "password_incorrect": "That is not your present password. Mind capital letters.",
        "password_mismatch": "The two do not match. Write the new one again.",
    }

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        labels = {"old_password": "Present password", "new_password1": "New", "new_password2": "New, once more"}
        for name, label in labels.items():
            self.fields[name].label = label


class PersonForm(BaseUserCreationForm):
    """A new person with a first password."""

    groups = forms.CharField(required=False)

    class Meta:
        model = User
        fields = ["username", "first_name", "last_name", "email", "role"]


class PersonChangeForm(forms.ModelForm):
    """`attributes` is a line each: a name, =, one value or several with semicolons between."""

    attributes = forms.CharField(required=False, max_length=4_000)
    groups = forms.CharField(required=False)
    new_password = forms.CharField(required=False, strip=False, widget=forms.PasswordInput)

    class Meta:
        model = User
        fields = ["first_name", "last_name", "email", "role", "is_active", "attributes"]

    def clean_attributes(self) -> dict[str, str | list[str]]:
        attributes: dict[str, str | list[str]] = {}
        for line in self.cleaned_data["attributes"].splitlines():
            name, sign, text = line.partition("=")
            name, values = name.strip().lower(), [value.strip() for value in text.split(";") if value.strip()]
            if not line.strip():
                continue
            if not sign or not values or not re.fullmatch("[a-z][a-z0-9_]{0,30}", name):
                raise forms.ValidationError(
                    f"“{line.strip()}” is not readable. Write a line such as: region = Inner Sound"
                )
            attributes[name] = values[0] if len(values) == 1 else values
        return attributes

    def clean_new_password(self) -> str:
        password = self.cleaned_data["new_password"]
        if password:
            validate_password(password, self.instance)
        return password


def get_groups(text: str) -> list[Group]:
    """The groups of a comma-separated list, made where they are new."""
    names = dict.fromkeys(name.strip()[:150] for name in text.split(",") if name.strip())
    return [Group.objects.get_or_create(name=name)[0] for name in names]
