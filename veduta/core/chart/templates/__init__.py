"""Chart templates: a chart's design without its data, with places for fields."""

from veduta.core.chart.templates.filling import (
    LIKE_PARTS,
    LikePart,
    copy_design,
    fill_template,
    is_suitable,
    propose_fields,
)
from veduta.core.chart.templates.making import MadeTemplate, make_template
from veduta.core.chart.templates.template import (
    FieldSlot,
    Template,
    build_template_schema,
    load_template,
    write_template,
)

__all__ = [
    "LIKE_PARTS",
    "FieldSlot",
    "LikePart",
    "MadeTemplate",
    "Template",
    "build_template_schema",
    "copy_design",
    "fill_template",
    "is_suitable",
    "load_template",
    "make_template",
    "propose_fields",
    "write_template",
]
