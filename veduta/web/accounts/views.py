from django.contrib import messages
from django.contrib.auth import update_session_auth_hash
from django.contrib.auth.models import Group
from django.contrib.auth.views import LoginView
from django.http import HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_safe

from veduta.core.errors import VedutaError
from veduta.web.accounts import services
from veduta.web.accounts.access import Request, require_sign_in, require_steward
from veduta.web.accounts.forms import OwnPasswordForm, PersonChangeForm, PersonForm, SignInForm
from veduta.web.accounts.models import Deed, User

DEEDS_SHOWN = 500


class SignIn(LoginView):
    template_name = "accounts/sign_in.html"
    authentication_form = SignInForm
    redirect_authenticated_user = True


@require_GET
@require_sign_in
def is_signed_in(request: Request) -> JsonResponse:
    """Asked before a form is sent, so that nothing that was written into it is lost."""
    return JsonResponse({})


@require_sign_in
def change_password(request: Request) -> HttpResponse:
    """Change one's own password; other sessions end, this one stays."""
    form = OwnPasswordForm(request.user, request.POST or None)
    if request.method == "POST" and form.is_valid():
        update_session_auth_hash(request, form.save())
        messages.success(request, "Your password is changed.")
        return redirect("home")
    return render(request, "accounts/password.html", {"form": form})


@require_steward
def list_people(request: Request) -> HttpResponse:
    form = PersonForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        person = services.add_person(request.user, form)
        messages.success(request, f"{person.label} can sign in now.")
        return redirect("people")
    everybody = User.objects.prefetch_related("groups").order_by("-is_active", "username")
    return render(
        request, "accounts/people.html", {"people": everybody, "form": form, "groups": Group.objects.order_by("name")}
    )


@require_safe
@require_steward
def list_deeds(request: Request) -> HttpResponse:
    """What people did that takes something from others, or gives it: the last of it first."""
    done = Deed.objects.select_related("user")[:DEEDS_SHOWN]
    return render(request, "accounts/deeds.html", {"deeds": done, "shown": DEEDS_SHOWN})


@require_steward
def edit_person(request: Request, pk: int) -> HttpResponse:
    somebody = get_object_or_404(User, pk=pk)
    lines = [f"{k} = {'; '.join(v) if isinstance(v, list) else v}" for k, v in somebody.attributes.items()]
    initial = {
        "groups": ", ".join(somebody.groups.order_by("name").values_list("name", flat=True)),
        "attributes": "\n".join(lines),
    }
    form = PersonChangeForm(request.POST or None, instance=somebody, initial=initial)
    if request.method == "POST" and form.is_valid():
        try:
            services.change_person(request.user, form)
        except VedutaError as problem:
            form.add_error(None, str(problem))
        else:
            messages.success(request, f"{somebody.label} is saved.")
            return redirect("people")
    return render(
        request, "accounts/person.html", {"person": somebody, "form": form, "groups": Group.objects.order_by("name")}
    )
