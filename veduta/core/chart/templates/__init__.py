"""Chart templates: a chart's design without its data, with places for fields."""

from veduta.core.chart.templates.filling import LIKE_PARTS, LikePart, drawn_like, filled, proposed, suitable
from veduta.core.chart.templates.making import Made, template_of
from veduta.core.chart.templates.template import Place, Template, load_template, template_schema, written

__all__ = [
    "LIKE_PARTS",
    "LikePart",
    "Made",
    "Place",
    "Template",
    "drawn_like",
    "filled",
    "load_template",
    "proposed",
    "suitable",
    "template_of",
    "template_schema",
    "written",
]
