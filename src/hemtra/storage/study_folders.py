"""The folder of a guided gauge study: what it requires, and the scans taken so far.

`study.json` says what the study requires and which runs were taken; scans lie in a folder for each operator,
named PART-TRIAL, so that they also can be studied without it.
"""

from __future__ import annotations

from pathlib import Path

from pydantic import ValidationError

from hemtra.core.errors import FileError
from hemtra.core.gauge.guided import GuidedStudy, Presentation
from hemtra.core.maps.scan import Scan
from hemtra.storage.files import make_folder, parsed_json, read_text, write_text
from hemtra.storage.scans import save_scan
from hemtra.storage.study_lists import StudyEntry

STUDY = "study.json"
LARGEST = 4 * 1024**2


def begin_study(folder: Path, study: GuidedStudy) -> None:
    """Make the folder of a study. Raises `FileError` where there is anything in it already."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        more = " To take up the study in it, continue that." if (folder / STUDY).is_file() else ""
        raise FileError(f"{folder.name} is not empty; choose a new folder for the study.{more}")
    make_folder(folder)
    _write(folder, study)


def load_study(folder: Path) -> GuidedStudy:
    """The study in a folder. Raises `FileError`."""
    path = folder / STUDY
    if not path.is_file():
        raise FileError(f"There is no guided study in {folder.name}; choose a folder that holds {STUDY}.")
    damaged = f"{STUDY} in {folder.name} is damaged. Study the scans of the folder without it."
    held = parsed_json(read_text(path, LARGEST), damaged)
    try:
        return GuidedStudy.model_validate(held)
    except ValidationError:
        raise FileError(damaged) from None


def scan_of(folder: Path, one: Presentation) -> Path:
    """Path of a run's scan."""
    return folder / one.operator / f"{one.part}-{one.trial}.x3p"


def entries_of(folder: Path, study: GuidedStudy) -> tuple[StudyEntry, ...]:
    """The scans taken so far."""
    return tuple(StudyEntry(scan_of(folder, o), o.part, o.operator, o.trial) for o in study.taken)


def keep_run(folder: Path, study: GuidedStudy, one: Presentation, scan: Scan) -> GuidedStudy:
    """Save the scan of a run and that it was taken; the study after it.

    Raises `FileError` where that cannot be saved, or a file of that name is not of this study.
    """
    path = scan_of(folder, one)
    if path.exists() and one not in study.taken:
        raise FileError(f"{path.parent.name}/{path.name} exists and is not of this study; move it away.")
    make_folder(path.parent)
    save_scan(scan, path)
    return keep_study(folder, study.with_taken(one))


def keep_study(folder: Path, study: GuidedStudy) -> GuidedStudy:
    """Save what was taken and what is requested again; the same study."""
    _write(folder, study)
    return study


def _write(folder: Path, study: GuidedStudy) -> None:
    write_text(folder / STUDY, study.model_dump_json(indent=1) + "\n")
