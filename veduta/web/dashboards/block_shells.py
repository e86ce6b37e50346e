"""What the blocks of a page look like before their charts are drawn: the same for who reads and who makes them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from django.template.loader import render_to_string
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from veduta.core.dashboard.block_kinds import BLOCK_KINDS
from veduta.core.dashboard.definition import DashboardBlock, Page
from veduta.core.dashboard.mobile_layout import arrange_blocks
from veduta.core.dashboard.numbers import put_numbers, replace_with_tokens
from veduta.web.charts.models import Chart
from veduta.web.common.markdown import render_markdown
from veduta.web.dashboards.access import may_download
from veduta.web.dashboards.block_looks import find_click_problem
from veduta.web.dashboards.control_forms import ControlButton, ControlStep, list_buttons, list_steps
from veduta.web.dashboards.filter_bar import FilterBarItem, list_filter_bar
from veduta.web.dashboards.layout_styles import is_strong
from veduta.web.dashboards.models import Task
from veduta.web.dashboards.session import DashboardSession
from veduta.web.dashboards.tasks import index_by_placeholder
from veduta.web.images.services import ShownPicture, find_published, get_pictures


@dataclass
class BlockShell:
    """A block with what its template shows.

    `name` is its name for people who do not see it; a `problem` is shown to its author."""

    block: DashboardBlock
    name: str = ""
    title: str = ""
    html: SafeString = SafeString("")
    picture: ShownPicture | None = None
    control: FilterBarItem | None = None
    buttons: Sequence[ControlButton] = ()
    steps: Sequence[ControlStep] = ()
    problem: str = ""
    task: Task | None = None
    strong: bool = False
    faces: list[BlockShell] = field(default_factory=list)

    @property
    def template(self) -> str:
        return f"dashboards/blocks/{self.block.kind}.html"


def make_shells(reading: DashboardSession, blocks: Iterable[DashboardBlock]) -> list[BlockShell]:
    """Blocks in the order in which they are read, those of a group within it."""
    made = {face.block.id: face for face in _make_shells(reading, list(blocks))}
    for face in made.values():
        if face.block.group in made:
            made[face.block.group].faces.append(face)
    return [face for face in made.values() if face.block.group not in made]


def list_block_names(reading: DashboardSession, blocks: Iterable[DashboardBlock]) -> dict[str, str]:
    """What blocks are called, also those of groups, by their ids."""
    return {face.block.id: face.name for face in _make_shells(reading, list(blocks))}


def _make_shells(reading: DashboardSession, blocks: list[DashboardBlock]) -> list[BlockShell]:
    pictures = get_pictures(block.picture for block in blocks if block.picture)
    controls = {item.key: item for item in list_filter_bar(reading) if item.mode == "control"}
    return [_make_shell(reading, block, pictures, controls) for block in blocks]


def _make_shell(
    reading: DashboardSession,
    block: DashboardBlock,
    pictures: dict[str, ShownPicture],
    controls: dict[str, FilterBarItem],
) -> BlockShell:
    title = reading.name_of(block) if block.kind == "chart" else block.title
    control = controls.get(block.control)
    said = {"heading": block.text, "control": control.name if control else "", "place": block.text}
    return BlockShell(
        block,
        name=(title or said.get(block.kind) or BLOCK_KINDS[block.kind].name)[:120],
        title=title,
        html=render_text(block, reading) if block.kind == "text" else SafeString(""),
        picture=find_published(block.picture_kept, block.text) or pictures.get(block.picture.casefold()),
        control=control,
        buttons=_list_buttons(reading, block.control) if control else (),
        steps=_list_steps(reading, block.control) if control else (),
        strong=is_strong(block, reading.paints),
    )


def _list_steps(reading: DashboardSession, control_id: str) -> Sequence[ControlStep]:
    return [step for each in reading.definition.controls if each.id == control_id for step in list_steps(reading, each)]


def _list_buttons(reading: DashboardSession, control_id: str) -> Sequence[ControlButton]:
    control = next((each for each in reading.definition.controls if each.id == control_id and each.buttons), None)
    return list_buttons(reading, control) if control else ()


def render_text(block: DashboardBlock, reading: DashboardSession) -> SafeString:
    """A text with a place for each of its numbers, which opens the rows behind it for those who may see them."""
    element = "button" if may_download(reading.reader, reading.dashboard) else "span"
    attributes = ' type="button" title="The rows behind it"' if element == "button" else ""
    button = mark_safe(attributes)  # noqa: S308 - ours

    def put(place: int) -> str:
        return format_html('<{0}{1} class="number" data-number="{2}">…</{0}>', element, button, place)

    cleaned = render_markdown(replace_with_tokens(block.text, block.numbers))
    return mark_safe(put_numbers(cleaned, put))  # noqa: S308 - cleaned, and escaped numbers


def list_reader_blocks(page: Page) -> list[DashboardBlock]:
    """The blocks of a page in reading order, without places that nothing fills yet."""
    return [block for block in page.in_reading_order if block.kind != "place"]


def render_shells_to_edit(reading: DashboardSession, names: Iterable[str]) -> dict[str, str]:
    """The HTML of blocks in the editor, by their names; what a group holds is put into it there."""
    wanted = [block for block in map(reading.definition.find_block, names) if block]
    faces = _make_shells(reading, wanted)
    tasks = index_by_placeholder(reading.dashboard)
    charts = Chart.objects.filter(pk__in=[block.chart for block in wanted if block.chart])
    deleted = {str(pk) for pk in charts.exclude(deleted_at=None).values_list("pk", flat=True)}
    for face in faces:
        face.task = tasks.get(face.block.id)
        face.problem = find_click_problem(face.block, reading.definition, reading.dashboard)
        if face.block.chart in deleted:
            face.problem = "Its chart was deleted. Bring it back under Charts, or put another one here."
    return {face.block.id: render_to_string("dashboards/block.html", {"face": face, "editing": True}) for face in faces}


@dataclass(frozen=True)
class MobileRow:
    """A block in the list of those of a narrow screen, with its place among those it stands among."""

    id: str
    name: str
    place: int
    hidden: bool
    height: int | None
    inner: bool
    first: bool
    last: bool


def narrow_rows(page: Page, faces: list[BlockShell], inner: bool = False) -> list[MobileRow]:
    """Blocks in the order of a narrow screen, those of a group behind it."""
    by_id = {face.block.id: face for face in faces}
    rows = []
    placed = arrange_blocks(list(by_id), page.narrow)
    for place, each in enumerate(placed):
        face = by_id[each.id]
        first, last = place == 0, place == len(placed) - 1
        rows.append(MobileRow(each.id, face.name, place, each.hidden, each.height, inner, first, last))
        rows += narrow_rows(page, face.faces, inner=True)
    return rows
