"""What the blocks of a page look like before their charts are drawn: the same for who reads and who makes them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from django.template.loader import render_to_string
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from veduta.core.dashboard.definition import Block, Page
from veduta.core.dashboard.kinds import KINDS
from veduta.core.dashboard.narrow import arranged
from veduta.core.dashboard.numbers import put_numbers, with_tokens
from veduta.web.charts.models import Chart
from veduta.web.common.markdown import to_html
from veduta.web.dashboards.access import may_download
from veduta.web.dashboards.control_forms import Button, Step, buttons_of, steps_of
from veduta.web.dashboards.dressing import problem_of_click
from veduta.web.dashboards.layout_styles import is_strong
from veduta.web.dashboards.models import Task
from veduta.web.dashboards.reading import Reading
from veduta.web.dashboards.tasks import of_places
from veduta.web.dashboards.trail import TrailItem, trail_of
from veduta.web.pictures.services import Shown, named, published_as


@dataclass
class Face:
    """A block with what its template shows; `name` is what it is to who does not see it, and a `problem` is said to who
    makes it."""

    block: Block
    name: str = ""
    title: str = ""
    html: SafeString = SafeString("")
    picture: Shown | None = None
    control: TrailItem | None = None
    buttons: Sequence[Button] = ()
    steps: Sequence[Step] = ()
    problem: str = ""
    task: Task | None = None
    strong: bool = False
    faces: list[Face] = field(default_factory=list)

    @property
    def template(self) -> str:
        return f"dashboards/blocks/{self.block.kind}.html"


def faces_of(reading: Reading, blocks: Iterable[Block]) -> list[Face]:
    """Blocks in the order in which they are read, those of a group within it."""
    made = {face.block.id: face for face in _faces(reading, list(blocks))}
    for face in made.values():
        if face.block.group in made:
            made[face.block.group].faces.append(face)
    return [face for face in made.values() if face.block.group not in made]


def names_of(reading: Reading, blocks: Iterable[Block]) -> dict[str, str]:
    """What blocks are called, also those of groups, by their ids."""
    return {face.block.id: face.name for face in _faces(reading, list(blocks))}


def _faces(reading: Reading, blocks: list[Block]) -> list[Face]:
    pictures = named(block.picture for block in blocks if block.picture)
    controls = {item.key: item for item in trail_of(reading) if item.mode == "control"}
    return [_face(reading, block, pictures, controls) for block in blocks]


def _face(reading: Reading, block: Block, pictures: dict[str, Shown], controls: dict[str, TrailItem]) -> Face:
    title = reading.name_of(block) if block.kind == "chart" else block.title
    control = controls.get(block.control)
    said = {"heading": block.text, "control": control.name if control else "", "place": block.text}
    return Face(
        block,
        name=(title or said.get(block.kind) or KINDS[block.kind].name)[:120],
        title=title,
        html=text_html(block, reading) if block.kind == "text" else SafeString(""),
        picture=published_as(block.picture_kept, block.text) or pictures.get(block.picture.casefold()),
        control=control,
        buttons=_buttons(reading, block.control) if control else (),
        steps=_steps(reading, block.control) if control else (),
        strong=is_strong(block, reading.paints),
    )


def _steps(reading: Reading, control_id: str) -> Sequence[Step]:
    return [step for each in reading.definition.controls if each.id == control_id for step in steps_of(reading, each)]


def _buttons(reading: Reading, control_id: str) -> Sequence[Button]:
    control = next((each for each in reading.definition.controls if each.id == control_id and each.buttons), None)
    return buttons_of(reading, control) if control else ()


def text_html(block: Block, reading: Reading) -> SafeString:
    """A text with a place for each of its numbers, which opens the rows behind it for those who may see them."""
    element = "button" if may_download(reading.reader, reading.dashboard) else "span"
    button = ' type="button" title="The rows behind it"' if element == "button" else ""

    def put(place: int) -> str:
        return format_html('<{0}{1} class="number" data-number="{2}">…</{0}>', element, mark_safe(button), place)

    return mark_safe(put_numbers(to_html(with_tokens(block.text, block.numbers)), put))


def shown_to_readers(page: Page) -> list[Block]:
    """The blocks of a page in reading order, without places that nothing fills yet."""
    return [block for block in page.in_reading_order if block.kind != "place"]


def faces_to_edit(reading: Reading, names: Iterable[str]) -> dict[str, str]:
    """The HTML of blocks in the editor, by their names; what a group holds is put into it there."""
    wanted = [block for block in map(reading.definition.block, names) if block]
    faces = _faces(reading, wanted)
    tasks = of_places(reading.dashboard)
    charts = Chart.objects.filter(pk__in=[block.chart for block in wanted if block.chart])
    deleted = {str(pk) for pk in charts.exclude(deleted_at=None).values_list("pk", flat=True)}
    for face in faces:
        face.task = tasks.get(face.block.id)
        face.problem = problem_of_click(face.block, reading.definition, reading.dashboard, reading.reader)
        if face.block.chart in deleted:
            face.problem = "Its chart was deleted. Bring it back under Charts, or put another one here."
    return {face.block.id: render_to_string("dashboards/block.html", {"face": face, "editing": True}) for face in faces}


@dataclass(frozen=True)
class NarrowRow:
    """A block in the list of those of a narrow screen, with its place among those it stands among."""

    id: str
    name: str
    place: int
    hidden: bool
    height: int | None
    inner: bool
    first: bool
    last: bool


def narrow_rows(page: Page, faces: list[Face], inner: bool = False) -> list[NarrowRow]:
    """Blocks in the order of a narrow screen, those of a group behind it."""
    by_id = {face.block.id: face for face in faces}
    rows = []
    placed = arranged(list(by_id), page.narrow)
    for place, each in enumerate(placed):
        face = by_id[each.id]
        first, last = place == 0, place == len(placed) - 1
        rows.append(NarrowRow(each.id, face.name, place, each.hidden, each.height, inner, first, last))
        rows += narrow_rows(page, face.faces, inner=True)
    return rows
