"""The shapes of the demo's maps, and the fields that name their areas."""

from __future__ import annotations

import io
import json

from veduta.demo import islands
from veduta.demo.generate import SPELT
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Dataset, ShapeSet
from veduta.web.map_shapes.services import receive_shapes, save_spellings, use_for

FILES = {
    "Islands": (islands.generate_islands, (("Ports", "Port"), ("Routes", "From port"))),
    "Sea areas": (islands.generate_sea_areas, (("Sailings", "Region"), ("Ports", "Region"))),
}


def load_maps(user: User) -> None:
    """Islands and sea areas, unless they are there."""
    for name, (made, fields) in FILES.items():
        if ShapeSet.objects.filter(name=name).exists():
            continue
        data = json.dumps(made()).encode()
        shapes = receive_shapes(user, io.BytesIO(data), len(data), f"{name.lower().replace(' ', '_')}.geojson")
        if name == "Islands":
            save_spellings(user, shapes, {port: spelling.strip() for port, spelling in SPELT.items()})
        for dataset_name, field_name in fields:
            dataset = Dataset.objects.get(name=dataset_name)
            field = next(field for field in dataset.all_fields if field.name == field_name)
            use_for(user, shapes, dataset, field.id, True)
