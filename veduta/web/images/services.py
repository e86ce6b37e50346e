"""Every change to the workspace's pictures, each with its permission check, and which picture a name has."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable
from dataclasses import dataclass

from django.db.models import QuerySet
from django.urls import reverse
from django.utils import timezone

from veduta.core.data.svg import clean_svg
from veduta.core.errors import DefinitionProblem, FileProblem
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.images.models import KeptPicture, PublishedPicture

LARGEST = 5 * 1024**2
SIGNATURES = {
    "image/png": re.compile(rb"\x89PNG\r\n\x1a\n"),
    "image/jpeg": re.compile(rb"\xff\xd8\xff"),
    "image/webp": re.compile(rb"RIFF....WEBP", re.DOTALL),
}
"""How files of each kind begin."""
SVG_KIND = "image/svg+xml"
SVG_BEGINS = re.compile(rb"(\xef\xbb\xbf)?\s*<(\?xml|svg|!--|!DOCTYPE svg)", re.IGNORECASE)
UNNAMEABLE = re.compile(r"[\x00-\x1f\x7f/\\]+")


@dataclass(frozen=True)
class ShownPicture:
    """A picture as a page shows it: where it is, and what it says to who does not see it."""

    address: str
    said: str


def list_pictures() -> QuerySet[KeptPicture]:
    return KeptPicture.objects.filter(deleted_at=None).defer("content").select_related("created_by")


def get_pictures(names: Iterable[str]) -> dict[str, ShownPicture]:
    """The pictures that have these names, in whatever case, by their names in small letters."""
    wanted = {name.casefold() for name in names}
    found = list_pictures().filter(key__in=wanted) if wanted else ()
    return {each.key: ShownPicture(each.address, each.said) for each in found}


def load_content(name: str) -> tuple[str, KeptPicture | None]:
    """The digest of a picture's content, and the picture; "" and None if there is none of that name."""
    picture = KeptPicture.objects.filter(deleted_at=None, key=name.casefold()).first()
    return (hashlib.sha256(bytes(picture.content)).hexdigest() if picture else ""), picture


def keep_content(name: str) -> str:
    """Keep a picture's content as it is now. Returns its digest; "" if there is no picture of that name."""
    digest, picture = load_content(name)
    if picture:
        kept = {"content": picture.content, "content_type": picture.content_type}
        PublishedPicture.objects.get_or_create(digest=digest, defaults=kept)
    return digest


def find_published(digest: str, said: str) -> ShownPicture | None:
    """A picture whose content was kept, with what is to be said of it; None without a digest."""
    return ShownPicture(reverse("published-picture", args=[digest]), said) if digest else None


def receive(user: User, file_name: str, content: bytes) -> KeptPicture:
    """Keep a file as the picture that is called as it is, in the place of one that had that name; an SVG is made safe.

    Raises FileProblem for what is no picture."""
    must_build(user)
    kind = next((kind for kind, begins in SIGNATURES.items() if begins.match(content)), "")
    if not kind and SVG_BEGINS.match(content):
        kind, content = SVG_KIND, clean_svg(content)
    if not kind:
        raise FileProblem(
            f"“{file_name}” is no PNG, JPEG, WebP or SVG.", hint="Save the picture as one of these, and bring that in."
        )
    name = _name(file_name.rsplit(".", 1)[0]) or "Unnamed"
    picture = list_pictures().filter(key=name.casefold()).first()
    picture = picture or KeptPicture(name=name, key=name.casefold(), created_by=user)
    picture.content, picture.content_type = content, kind
    picture.save()
    return picture


def describe(user: User, picture: KeptPicture, name: str, words: str) -> None:
    """Give a picture another name, and say what is on it. Raises DefinitionProblem for a name that another one has."""
    must_build(user)
    picture.name, picture.words = _name(name), words.strip()[:300]
    picture.key = picture.name.casefold()
    if not picture.name:
        raise DefinitionProblem("The picture has no name.", hint="Name it as the value that it stands beside.")
    _has_name_alone(picture)
    picture.save(update_fields=["name", "key", "words", "updated_at"])


def _has_name_alone(picture: KeptPicture) -> None:
    if list_pictures().exclude(pk=picture.pk).filter(key=picture.key).exists():
        raise DefinitionProblem(f"Another picture is called “{picture.name}”.", hint="Give one of them another name.")


def _name(text: str) -> str:
    return UNNAMEABLE.sub(" ", text).strip()[:200]


def delete(user: User, picture: KeptPicture) -> None:
    must_build(user)
    KeptPicture.objects.filter(pk=picture.pk).update(deleted_at=timezone.now())


def restore(user: User, picture: KeptPicture) -> None:
    """Bring a picture back. Raises DefinitionProblem if another one has its name by now."""
    must_build(user)
    _has_name_alone(picture)
    KeptPicture.objects.filter(pk=picture.pk).update(deleted_at=None)
