"""The simulated sensor models, one JSON file each; adding a file adds a model."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from hemtra.core.errors import HemtraError
from hemtra.core.station.optics import SensorModel


@cache
def sensor_models() -> dict[str, SensorModel]:
    """All models by name."""
    texts = (f.read_text() for f in files(__package__).iterdir() if f.name.endswith(".json"))
    models = [SensorModel.model_validate_json(text) for text in texts]
    return {m.name: m for m in sorted(models, key=lambda m: m.width)}


def sensor_model(name: str) -> SensorModel:
    """The model of that name. Raises `HemtraError`."""
    try:
        return sensor_models()[name]
    except KeyError:
        known = ", ".join(sensor_models())
        raise HemtraError(f"There is no sensor model “{name}”; there are {known}.") from None
