from django import forms
from django.contrib.auth.forms import AuthenticationForm, BaseUserCreationForm
from django.contrib.auth.models import Group
from django.contrib.auth.password_validation import validate_password

from veduta.web.accounts.models import User


class SignInForm(AuthenticationForm):
    error_messages = {
        "invalid_login": "That name and password do not belong together. Mind capital letters.",
        "inactive": "This account has been switched off. Ask a steward.",
    }


class PersonForm(BaseUserCreationForm):
    """A new person with a first password."""

    groups = forms.CharField(required=False)

    class Meta:
        model = User
        fields = ["username", "first_name", "last_name", "email", "role"]


class PersonChangeForm(forms.ModelForm):
    groups = forms.CharField(required=False)
    new_password = forms.CharField(required=False, strip=False, widget=forms.PasswordInput)

    class Meta:
        model = User
        fields = ["first_name", "last_name", "email", "role", "is_active"]

    def clean_new_password(self) -> str:
        password = self.cleaned_data["new_password"]
        if password:
            validate_password(password, self.instance)
        return password


def groups_named(text: str) -> list[Group]:
    """The groups of a comma-separated list, made where they are new."""
    names = dict.fromkeys(name.strip()[:150] for name in text.split(",") if name.strip())
    return [Group.objects.get_or_create(name=name)[0] for name in names]
