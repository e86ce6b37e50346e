"""A dashboard: pages of blocks, and the controls of its trail. A definition is a value."""

from __future__ import annotations

from itertools import chain
from typing import Annotated, Any, Final, Literal

from pydantic import Field, model_validator

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drilling import MOST_STEPS, DrillStep
from veduta.core.chart.mark_filters import make_points_filters
from veduta.core.chart.palettes import PaletteKind
from veduta.core.chart.value_colours import ColourList
from veduta.core.dashboard.backgrounds import PageGround
from veduta.core.dashboard.block_kinds import BlockKind
from veduta.core.dashboard.block_looks import BlockLook
from veduta.core.dashboard.clicks import Click
from veduta.core.dashboard.controls import IDENTIFIER, Choice, Control
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.dashboard.grid import COLUMNS, MOST_GAP
from veduta.core.dashboard.mobile_layout import MobileLayout
from veduta.core.dashboard.numbers import TextNumber
from veduta.core.dashboard.print_layout import PrintLayout
from veduta.core.dashboard.scope import EVERYWHERE, BlockScope
from veduta.core.data.fields import Frozen
from veduta.core.query.filters import PointsFilter, Value
from veduta.core.stored import Upgrade, load

VERSION: Final = 2
FARTHEST = 20_000
"""The last row, or px, of a page."""
MOST_BLOCKS = 500
"""How many blocks a dashboard may have, on all of its pages together."""


Mode = Literal["focus", "leave_out", "highlight"]
Inner = Literal["", "small", "large"]
Letters = Literal["", "small", "large"]


class DashboardBlock(Frozen):
    """A place on a page, and what is there.

    On a page that flows, places are counted in columns and rows of its grid, on a fixed one in px. Those of the blocks
    in a `group` count from its own upper left corner, and on a page that flows it has 12 columns of its own. A locked
    block is not moved, sized or taken away by hand.

    A text has its `numbers` where their names stand in braces. `chart` is a chart's id, `definition` its frozen state
    once published, and `own` has the parts of it that are other here only. `picture` is the name of a kept picture
    (`picture_kept` says which content it had once published), of which `text` says what is seen on it, and `control`
    the id of one of the dashboard's controls.

    What is selected in a block narrows the blocks that it `reaches`; those that it `highlights` show all, with what was
    selected set off.
    """

    id: str = Field(pattern=IDENTIFIER)
    kind: BlockKind
    x: int = Field(0, ge=0, le=FARTHEST)
    y: int = Field(0, ge=0, le=FARTHEST)
    w: int = Field(6, ge=1, le=FARTHEST)
    h: int = Field(4, ge=1, le=FARTHEST)
    group: str = ""
    locked: bool = False
    chart: str = ""
    text: str = Field("", max_length=20_000)
    title: str = Field("", max_length=300)
    picture: str = Field("", max_length=200)
    picture_kept: str = Field("", max_length=64)
    control: str = ""
    numbers: tuple[TextNumber, ...] = Field((), max_length=50)
    look: BlockLook = BlockLook()
    click: Click = Click()
    reaches: BlockScope = EVERYWHERE
    highlights: tuple[str, ...] = Field((), max_length=500)
    definition: dict[str, Any] | None = None
    own: dict[str, Any] = Field({}, max_length=100)


class Page(Frozen):
    """Blocks that are shown together. A hidden page has no tab: readers come to it from a link in a block.

    A page that flows is a grid of 12 columns, in which blocks stand as high as they can. A fixed one is so many px wide
    and high, and its blocks stand where they were put, the later ones over the earlier; with `snap` they are put on a
    grid of `step` px, which `grid` shows to whoever makes it. `narrow` is what was set for narrow screens.
    Behind the blocks lies its `ground`. A page that flows is as wide as the window, but no wider than the `widest` px;
    there are `gap` px between its blocks, and the edges of blocks are a small, usual or large `inner` distance from
    what is in them.
    On paper the blocks of `breaks` begin a new sheet, and those that go on may be cut.
    """

    id: str = Field(pattern=IDENTIFIER)
    name: str = Field(min_length=1, max_length=200)
    hidden: bool = False
    kind: Literal["flowing", "fixed"] = "flowing"
    width: int = Field(1280, ge=200, le=FARTHEST)
    height: int = Field(720, ge=200, le=FARTHEST)
    step: int = Field(20, ge=2, le=200)
    grid: bool = True
    snap: bool = True
    narrow: MobileLayout = MobileLayout()
    ground: PageGround = PageGround()
    widest: Annotated[int, Field(ge=400, le=FARTHEST)] | None = None
    gap: int = Field(1, ge=1, le=MOST_GAP)
    inner: Inner = ""
    breaks: tuple[str, ...] = Field((), max_length=200)
    goes_on: tuple[str, ...] = Field((), max_length=200)
    blocks: tuple[DashboardBlock, ...] = Field((), max_length=200)

    @model_validator(mode="after")
    def _validate(self) -> Page:
        if self.kind == "flowing" and any(block.x + block.w > COLUMNS for block in self.blocks):
            raise ValueError(f"a block goes beyond the {COLUMNS} columns of its page")
        groups = {block.id for block in self.blocks if block.kind == "group"}
        for block in self.blocks:
            if block.group and (block.group not in groups or block.kind == "group"):
                raise ValueError("a block is in a group that cannot hold it")
        return self

    @property
    def in_reading_order(self) -> list[DashboardBlock]:
        """From above and from the left; the blocks of a group after it."""
        tops = {block.id: (block.y, block.x) for block in self.blocks if not block.group}
        return sorted(
            self.blocks,
            key=lambda block: (*tops[block.group or block.id], bool(block.group), block.y, block.x),
        )


FIRST = Page(id="p1", name="Page 1")


class DashboardDefinition(Frozen):
    """`colours` are those of values on this dashboard; with `own_colours` it takes none that values have elsewhere.

    What readers set holds at once or, if it `applies`, once they say so. `palettes` of the workspace, by their names,
    stand in the place of those in use; once published, `palettes_kept` are the colours of all that are used. `letters`
    are those of charts that set no size, of titles and of texts."""

    version: Literal[2] = VERSION
    pages: tuple[Page, ...] = Field((FIRST,), min_length=1, max_length=50)
    controls: tuple[Control, ...] = Field((), max_length=20)
    filters: tuple[DashboardFilter, ...] = Field((), max_length=50)
    applies: bool = False
    colours: tuple[ColourList, ...] = Field((), max_length=20)
    own_colours: bool = False
    palettes: dict[PaletteKind, str] = {}
    palettes_kept: dict[PaletteKind, tuple[str, ...]] = {}
    letters: Letters = ""
    paper: PrintLayout = PrintLayout()

    @model_validator(mode="after")
    def _validate_names(self) -> DashboardDefinition:
        narrowing = [each.id for each in self.controls] + [each.id for each in self.filters]
        for ids in ([page.id for page in self.pages], [block.id for block in self.blocks], narrowing):
            if len(set(ids)) < len(ids):
                raise ValueError("two parts have the same id")
        if len(self.blocks) > MOST_BLOCKS:
            raise ValueError(f"it has more than {MOST_BLOCKS} blocks")
        if all(page.hidden for page in self.pages):
            raise ValueError("all of its pages are hidden")
        return self

    @property
    def blocks(self) -> tuple[DashboardBlock, ...]:
        """Those of all pages."""
        return tuple(chain.from_iterable(page.blocks for page in self.pages))

    @property
    def charts(self) -> list[DashboardBlock]:
        """The blocks with a chart, of all pages."""
        return [block for block in self.blocks if block.kind == "chart"]

    @property
    def shown(self) -> list[Page]:
        """The pages that have a tab."""
        return [page for page in self.pages if not page.hidden]

    def find_block(self, block_id: str) -> DashboardBlock | None:
        return next((block for block in self.blocks if block.id == block_id), None)

    def find_page(self, page_id: str) -> Page | None:
        return next((page for page in self.pages if page.id == page_id), None)

    def find_page_of(self, block_id: str) -> Page | None:
        """The page on which a block is."""
        return next((page for page in self.pages if any(block.id == block_id for block in page.blocks)), None)

    def replace_page(self, page: Page) -> DashboardDefinition:
        """With a page in place of the one of its id."""
        return self.model_copy(update={"pages": tuple(page if each.id == page.id else each for each in self.pages)})


def _upgrade_to_pages(data: dict[str, Any]) -> dict[str, Any]:
    """Before version 2 all blocks were on one page."""
    kept = {name: value for name, value in data.items() if name != "blocks"}
    return kept | {"pages": [{"id": FIRST.id, "name": FIRST.name, "blocks": data.get("blocks", [])}]}


UPGRADES: dict[int, Upgrade] = {1: _upgrade_to_pages}


def load_dashboard(data: Any) -> DashboardDefinition:
    """From stored or sent JSON. Raises NewerDefinition or DefinitionProblem."""
    return load(DashboardDefinition, data, name="dashboard", version=VERSION, upgrades=UPGRADES)


class Selection(Frozen):
    """Marks selected in a block, by their points: the others show only them, or all but them, or set them off.

    The block may be one of another `dashboard`, from which one came here with them.

    Points are the values of the dimensions that they are `by`, without it of the chart's. They may hold only the first
    dimensions, as when a range of an axis is selected whatever the series, and those into which a chart was drilled
    after its own.
    """

    block: str = Field(pattern=IDENTIFIER)
    dashboard: str = Field("", max_length=36)
    mode: Mode = "focus"
    by: tuple[Grouping, ...] = Field((), max_length=20)
    points: tuple[tuple[Value, ...], ...] = Field(min_length=1, max_length=2_000)

    def filter(self, chart: ChartDefinition) -> PointsFilter | None:
        """A filter on the rows of the marks selected in a chart, or on all but these.

        None where the dimensions of its marks have no values. Raises DefinitionProblem for points that are not the
        chart's."""
        return next(iter(make_points_filters(chart, self.points, self.mode == "leave_out", self.by)), None)

    def find_depth(self, chart: ChartDefinition) -> int:
        """How many of its dimensions are the first ones of a chart, in their order."""
        if not self.by:
            return len(self.points[0])
        alike = [own == other for own, other in zip(self.by, chart.groups, strict=False)]
        return next((depth for depth, same in enumerate(alike) if not same), len(alike))

    def list_own_points(self, chart: ChartDefinition) -> tuple[tuple[Value, ...], ...]:
        """The marks of the chart itself that are selected; none if they are of other dimensions."""
        depth = self.find_depth(chart)
        return tuple(dict.fromkeys(point[:depth] for point in self.points)) if depth else ()


class ViewState(Frozen):
    """All that makes a reader's view another than the published one.

    A control set to None shows all; `drills` are the steps by which blocks are drilled; `sorts` say by which column of
    its rows a block is sorted, as `sort_of_column` reads it."""

    controls: dict[str, Choice | None] = {}
    selections: tuple[Selection, ...] = Field((), max_length=20)
    drills: dict[str, Annotated[tuple[DrillStep, ...], Field(max_length=MOST_STEPS)]] = Field({}, max_length=200)
    sorts: dict[str, str] = Field({}, max_length=200)


def load_state(data: Any) -> ViewState:
    """From an address, or from where one is kept; nothing is the plain view.

    Raises DefinitionProblem for one that is not readable."""
    return load(ViewState, data, name="link", hint="Start again from the plain address.") if data else ViewState()
