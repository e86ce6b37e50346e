"""Where the rows of a dataset come from."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, RootModel

from veduta.core.data.feed import Feed
from veduta.core.data.fields import Frozen
from veduta.core.stored import load


class FileSource(Frozen):
    """Files that people bring in."""

    words: ClassVar[str] = "file"
    kind: Literal["file"] = "file"


class DatasetSource(Frozen):
    """Another dataset's rows: those its steps give ("result"), or those they start from ("taken")."""

    words: ClassVar[str] = "another dataset"
    kind: Literal["dataset"] = "dataset"
    dataset: str
    stage: Literal["result", "taken"] = "result"


class Fetched(Frozen):
    """Rows that come through a connection.

    `marks` are what the last answer said for asking only for news, `left_out` the headings of columns that are not
    taken in."""

    connection: int
    marks: dict[str, str] = {}
    left_out: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """What of the connection is fetched; "" is all of it."""
        raise NotImplementedError


class FeedSource(Fetched):
    words: ClassVar[str] = "web feed"
    kind: Literal["feed"] = "feed"
    feed: Feed

    @property
    def name(self) -> str:
        return self.feed.path.strip("/")


class TableSource(Fetched):
    """A table of a database, or what a query gives."""

    words: ClassVar[str] = "database"
    kind: Literal["table"] = "table"
    table: str = ""
    query: str = ""

    @property
    def name(self) -> str:
        return self.table or "a query"


Source = FileSource | DatasetSource | FeedSource | TableSource


class _Stored(RootModel[Annotated[Source, Field(discriminator="kind")]]):
    """A source, told apart by its kind."""


def load_source(data: dict[str, Any]) -> Source:
    """From stored or sent JSON; without a kind it is files. Raises DefinitionProblem."""
    return load(_Stored, {"kind": "file", **data}, name="source").root
