"""Scan files of any supported format, by suffix."""

from __future__ import annotations

import glob
import importlib
import json
from collections.abc import Sequence
from pathlib import Path
from types import ModuleType
from typing import Any

from pydantic import ValidationError

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.importing import Foreign, ImportSettings, Unstated, map_of
from hemtra.core.maps.scan import Scan
from hemtra.core.text import plain
from hemtra.storage.files import parsed_json, read_text, write_text
from hemtra.storage.remote import is_remote

# By name, so that a command that reads X3P does not wait for the TIFF library to load.
FORMATS = {".x3p": "hemtra.storage.x3p", ".tif": "hemtra.storage.tiff", ".tiff": "hemtra.storage.tiff"}
"""Suffixes searched for in a folder."""
_TEXT, _NUMPY = "hemtra.storage.foreign.point_text", "hemtra.storage.foreign.numpy_files"
FOREIGN = {
    **dict.fromkeys((".npy", ".npz"), _NUMPY),
    ".png": "hemtra.storage.foreign.png",
    ".ply": "hemtra.storage.foreign.ply",
    **dict.fromkeys((".xyz", ".asc", ".csv", ".txt"), _TEXT),
    ".pcd": "hemtra.storage.foreign.pcd",
    **dict.fromkeys((".las", ".laz"), "hemtra.storage.foreign.las"),
    ".e57": "hemtra.storage.foreign.e57",
}
"""Suffixes read only when named; text and pictures may be anything."""
BESIDE, OF_FOLDER = ".import.json", "folder.import.json"
"""Ends the name of a file beside a scan that says what the scan does not; a file that says it for a folder."""
LARGEST_SETTINGS = 64 * 1024
WRITTEN = (".x3p", ".tif", ".ply", ".npz", ".npy", ".csv", ".xyz")


def load_scan(path: str | Path, settings: ImportSettings | None = None, **given: Any) -> Scan:
    """Read a scan of any format.

    settings, given: what a file of another program does not say, such as dx=0.1, dy=0.2, unit="um"; see
    `ImportSettings`. They go before `NAME.import.json` beside the file, that before `folder.import.json`, and
    that before the file itself.
    Raises `FileError` in the user's words.
    """
    path = Path(path)
    asked = settings_of(path, settings, **given)
    found = read_foreign(path, asked.page)
    if isinstance(found, Scan):
        wanted = ImportSettings(**given).over(settings or ImportSettings())
        said = sorted(name for name, value in wanted if value and name != "page")
        if said:
            raise FileError(f"{path.name} says its heights and grid itself; leave out {', '.join(said)}.")
        return found
    try:
        return Scan(map_of(found, asked), path.name)
    except Unstated as error:
        error.args = (
            f"{path.name} cannot be read: {error}. Give it, as in"
            f" hemtra convert {path.name} scan.x3p {' '.join(f'--{EXAMPLES[n]}' for n in error.missing)}",
        )
        raise
    except HemtraError as error:
        raise FileError(f"{path.name} cannot be read: {error}.") from error


EXAMPLES = {"dx": "dx 0.1", "dy": "dy 0.1", "scale": "scale 0.001", "unit": "unit mm"}


def settings_of(path: Path, settings: ImportSettings | None = None, **given: Any) -> ImportSettings:
    """Import settings of a file: from the call, else from beside the file. Raises `FileError`."""
    try:
        asked = ImportSettings(**given)
        asked = asked if settings is None else asked.over(settings)
        beside = path.with_name(path.name + BESIDE)
        if beside.is_file():
            asked = asked.over(ImportSettings.model_validate_json(read_text(beside, LARGEST_SETTINGS)))
        return asked.over(_of_folder(path.parent).get(path.suffix.lower(), ImportSettings()))
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        where = ".".join(str(part) for part in first["loc"])
        raise FileError(f"What is said of {path.name} does not hold, at {where}: {first['msg']}.") from None


def keep_settings(path: Path, settings: ImportSettings, *, of_folder: bool = False) -> Path:
    """Write what is said of a file beside it, or of all of its kind in its folder. Raises `FileError`."""
    if not of_folder:
        beside = path.with_name(path.name + BESIDE)
        write_text(beside, settings.model_dump_json(indent=1, exclude_none=True) + "\n")
        return beside
    held = {**_of_folder(path.parent), path.suffix.lower(): settings}
    text = {suffix: one.model_dump(exclude_none=True) for suffix, one in sorted(held.items())}
    write_text(path.with_name(OF_FOLDER), json.dumps(text, indent=1) + "\n")
    return path.with_name(OF_FOLDER)


def _of_folder(folder: Path) -> dict[str, ImportSettings]:
    """Import settings for all files of a folder, by suffix, since formats differ in what they state."""
    path = folder / OF_FOLDER
    if not path.is_file():
        return {}
    held = parsed_json(
        read_text(path, LARGEST_SETTINGS), f"{path.name} is damaged; delete it to be asked again."
    )
    if not isinstance(held, dict):
        raise FileError(f"{path.name} is damaged; delete it to be asked again.")
    return {str(suffix): ImportSettings.model_validate(one) for suffix, one in held.items()}


def read_foreign(path: Path, page: int | None = None) -> Scan | Foreign:
    """A scan, or what another program wrote as it is. Raises `FileError`."""
    module = _format_of(path)
    if page is not None and hasattr(module, "read_page"):
        paged: Scan | Foreign = module.read_page(path, page)
        return paged
    found: Scan | Foreign = module.read(path)
    return found


def scans_named(names: Sequence[str]) -> list[str]:
    """Paths of the scans among some arguments, see `scans_in`; addresses stay as they are."""
    found: list[str] = []
    for name in names:
        found += [name] if is_remote(name) else map(str, scans_in([Path(name)]))
    return found


def scans_in(paths: Sequence[Path]) -> list[Path]:
    """The files among some paths, the scans in the folders among them, and what fits patterns, by name.

    A path with * ? or [ that is no file is a pattern. Raises `FileError` for a folder without any scan, and a
    pattern that nothing fits.
    """
    found: list[Path] = []
    for path in paths:
        if not path.exists() and glob.has_magic(str(path)):
            fitting = sorted(Path(path.anchor).glob(str(path.relative_to(path.anchor))))
            if not fitting:
                raise FileError(f"No file fits {plain(str(path))}; check the pattern.")
            found += [one for one in fitting if one.is_file()]
            continue
        if not path.is_dir():
            found.append(path)
            continue
        inside = sorted(file for file in path.iterdir() if file.suffix.lower() in FORMATS)
        if not inside:
            raise FileError(f"{path.name} holds no scans; they end in {', '.join(FORMATS)}.")
        found += inside
    return found


def is_whole(path: Path) -> bool:
    """Whether a file is complete for its format, as far as it shows without reading it."""
    try:
        module = _format_of(path)
        whole: bool = not hasattr(module, "is_whole") or module.is_whole(path)
    except FileError:
        return False
    return whole


def save_scan(scan: Scan, path: str | Path) -> None:
    """Write a scan atomically, in the format of the suffix. Raises `FileError`."""
    path = Path(path)
    module = _format_of(path)
    if not hasattr(module, "write"):
        raise FileError(f"Scans are not saved as {path.suffix}; take {', '.join(WRITTEN)}.")
    module.write(scan, path)


def _format_of(path: Path) -> ModuleType:
    try:
        return importlib.import_module((FORMATS | FOREIGN)[path.suffix.lower()])
    except KeyError:
        known = ", ".join(FORMATS | FOREIGN)
        raise FileError(f"{path.name}: “{path.suffix}” is not a scan format; there are {known}.") from None
