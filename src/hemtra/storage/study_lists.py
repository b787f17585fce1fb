"""The list of a gauge study: which scan shows which part, presented by whom, the how manyth time."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

from hemtra.core.errors import FileError
from hemtra.core.plan.requirements import read_table
from hemtra.storage.files import opened
from hemtra.storage.requirement_lists import LARGEST, text_of
from hemtra.storage.scans import FORMATS

COLUMNS = ("scan", "part", "operator", "trial", "tag")
NAMED = re.compile(r"(?P<part>.+?)[-_ ]0*(?P<trial>[1-9]\d{0,2})")
"""Name of a scan: a part and a trial from 1 on."""
TAGS = {"good": True, "bad": False, "": None}


@dataclass(frozen=True)
class StudyEntry:
    """A scan of a study. trial: from 1 on. tag: whether the part is known to be good, None where it is not."""

    scan: Path
    part: str
    operator: str
    trial: int
    tag: bool | None = None


def study_of(path: Path) -> tuple[StudyEntry, ...]:
    """The scans of a study from its list, or from a folder. Raises `FileError`."""
    return study_in_folder(path) if path.is_dir() else read_study_list(path)


def study_in_folder(folder: Path) -> tuple[StudyEntry, ...]:
    """The scans of a folder, whose folders are the operators; files are named PART-TRIAL.

    A folder without folders has one operator without a name. Raises `FileError` where a name says no trial.
    """
    folders = sorted(inside for inside in folder.iterdir() if inside.is_dir())
    found = []
    for held in folders or [folder]:
        for scan in sorted(file for file in held.iterdir() if file.suffix.lower() in FORMATS):
            name = NAMED.fullmatch(scan.stem)
            if name is None:
                raise FileError(f"{held.name}/{scan.name} says no trial; name it PART-TRIAL, as pump 7-2.x3p.")
            operator = held.name if folders else ""
            found.append(StudyEntry(scan, name["part"], operator, int(name["trial"])))
    if not found:
        raise FileError(f"{folder.name} holds no scans, nor do its folders.")
    return tuple(found)


def read_study_list(path: Path) -> tuple[StudyEntry, ...]:
    """A CSV with the columns scan and part, and if there are any operator, trial and tag (good or bad).

    Scans are searched beside the list. Without a trial, scans of one part and operator are counted as they
    come. Raises `FileError` that names the line.
    """
    with opened(path) as stream:
        raw = stream.read(LARGEST + 1)
    if len(raw) > LARGEST:
        raise FileError(f"{path.name} is larger than the {LARGEST // 1024**2} MiB such a list may have.")
    table = read_table(text_of(raw, path.name))
    names = [cell.lower() for cell in table.header]
    missing = [name for name in COLUMNS[:2] if name not in names]
    if missing:
        raise FileError(f"{path.name} has no column “{missing[0]}”; it needs scan and part.")
    counted: Counter[tuple[str, str]] = Counter()
    found = []
    for line, cells in table.lines:
        held = {name: cells[names.index(name)] if name in names else "" for name in COLUMNS}
        key = held["part"], held["operator"]
        if not held["scan"] or not held["part"]:
            raise FileError(f"Line {line} of {path.name} names no scan or no part.")
        counted[key] += 1
        trial = held["trial"] or str(counted[key])
        if not trial.isdecimal() or not 1 <= int(trial) <= 1000:
            raise FileError(f"Line {line} of {path.name}: “{trial}” is no trial; they count from 1 on.")
        tag = held["tag"].lower()
        if tag not in TAGS:
            raise FileError(f"Line {line} of {path.name}: the tag is good, bad or empty, not “{tag}”.")
        found.append(StudyEntry(path.parent / held["scan"], *key, int(trial), TAGS[tag]))
    if not found:
        raise FileError(f"{path.name} lists no scans.")
    return tuple(found)
