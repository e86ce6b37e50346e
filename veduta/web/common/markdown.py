"""Text that people write, as safe HTML."""

import nh3
from django.utils.safestring import SafeString, mark_safe
from markdown_it import MarkdownIt

_markdown = MarkdownIt("commonmark", {"breaks": True}).enable(["table", "strikethrough"])
_TAGS = {
    "p",
    "br",
    "strong",
    "em",
    "s",
    "h1",
    "h2",
    "h3",
    "h4",
    "ul",
    "ol",
    "li",
    "blockquote",
    "code",
    "pre",
    "hr",
    "a",
    "table",
    "thead",
    "tbody",
    "tr",
    "th",
    "td",
    "img",
}


def render_markdown(text: str) -> SafeString:
    """Markdown as HTML without anything that could run; links keep only safe addresses."""
    return mark_safe(  # noqa: S308 - cleaned
        nh3.clean(_markdown.render(text), tags=_TAGS, attributes={"a": {"href", "title"}, "img": {"src", "alt"}})
    )
