"""Station files: `.hstation`, JSON."""

from __future__ import annotations

import json
from pathlib import Path

from pydantic import ValidationError

from hemtra.core.errors import FileError
from hemtra.core.station.station import SCHEMA, Station, migrate
from hemtra.storage.files import parsed_json, read_text, shown, write_text

LARGEST = 4 * 1024**2


def load_station(path: str | Path) -> Station:
    """Read a station. Raises `FileError` in the user's words."""
    path = Path(path)
    text = read_text(path, LARGEST)
    content = parsed_json(text, f"{shown(path)} is not a valid station file: it is not JSON.")
    if isinstance(content, dict) and isinstance(content.get("schema"), int) and content["schema"] > SCHEMA:
        raise FileError(f"{path.name} was written by a newer Hemtra; update Hemtra to open it.")
    try:
        return Station.model_validate(migrate(content))
    except (KeyError, TypeError, AttributeError):
        raise FileError(f"{path.name} is not a valid station file: fields missing.") from None
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        where = " › ".join(str(part) for part in first["loc"]) or "the station"
        raise FileError(f"{path.name} cannot be used, at {where}: {first['msg']}.") from None


def save_station(station: Station, path: str | Path) -> None:
    """Save atomically. Raises `FileError`."""
    write_text(Path(path), json.dumps(station.model_dump(mode="json", by_alias=True), indent=1) + "\n")
