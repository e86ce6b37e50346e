"""Which blocks of a dashboard something reaches: a filter, a control, a click on marks."""

from __future__ import annotations

from typing import Final, Literal

from pydantic import Field

from veduta.core.data.fields import Frozen

Of = Literal["all", "pages", "blocks", "but", "none"]
OF: Final[dict[Of, str]] = {
    "all": "all blocks",
    "pages": "those of some pages",
    "blocks": "some blocks",
    "but": "all blocks but some",
    "none": "no block",
}


class BlockScope(Frozen):
    """All blocks, those of the pages or the blocks of these `names`, all blocks `but` them, or none."""

    of: Of = "all"
    names: tuple[str, ...] = Field((), max_length=500)

    def has(self, page: str, block: str) -> bool:
        """Whether a block is reached, by its id and that of its page."""
        named = (page if self.of == "pages" else block) in self.names
        return {"all": True, "pages": named, "blocks": named, "but": not named, "none": False}[self.of]


EVERYWHERE: Final = BlockScope()
