"""The sensor models that are known, one JSON file each in `models`; adding a file adds a model."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from hemtra.core.errors import HemtraError
from hemtra.core.station.optics import SensorModel
from hemtra.core.station.station import Station


@cache
def sensor_models() -> dict[str, SensorModel]:
    """All models by name."""
    texts = (f.read_text() for f in (files(__package__) / "models").iterdir() if f.name.endswith(".json"))
    models = [SensorModel.model_validate_json(text) for text in texts]
    return {m.name: m for m in sorted(models, key=lambda m: m.width)}


def sensor_model(name: str) -> SensorModel:
    """The model of that name. Raises `HemtraError`."""
    try:
        return sensor_models()[name]
    except KeyError:
        known = ", ".join(sensor_models())
        raise HemtraError(f"There is no sensor model “{name}”; there are {known}.") from None


def models_of(station: Station) -> tuple[SensorModel, ...]:
    """The models of its sensors. Raises `HemtraError` when one is unknown."""
    return tuple(sensor_model(sensor.model) for sensor in station.sensors)
