"""Settings kept between runs; a damaged file is set aside, and only invalid values are reset."""

from __future__ import annotations

import logging
from contextlib import suppress
from pathlib import Path
from typing import Literal

import platformdirs
from pydantic import BaseModel, ConfigDict, ValidationError, field_validator

from hemtra.core.errors import FileError
from hemtra.storage.files import make_folder, parsed_json, read_text, write_text
from hemtra.storage.tables import STYLES

log = logging.getLogger("hemtra")

TEXT_SIZES = (80, 90, 100, 110, 125, 150, 175, 200)
LOG_LEVELS = ("debug", "info", "warning", "error")
MOST_RECENT = 10
LARGEST = 1 << 20


class Settings(BaseModel):
    """All settings with their defaults."""

    model_config = ConfigDict(extra="ignore")

    recent: list[str] = []
    dark: bool = False
    unit: str = "mm"
    decimal_sign: Literal[".", ","] = "."
    """Between the whole of a number and its decimals, in the window."""
    author: str = ""
    """Whose name the revisions of plans get; that of the user of the computer where it is empty."""
    database: str = ""
    """Location of the records: a file or an address; empty for the default file."""
    cluster: str = ""
    """Address of the scheduler of a cluster that evaluates many parts; empty for none."""
    folder: str = ""
    """Folder for files that belong to no open plan; empty for the user's own folder."""
    log_level: str = "info"
    csv: str = "plain"
    """Style of tables, by its name in `tables.STYLES`."""
    text_size: int = 100
    """Text scale in percent, and of everything drawn with it."""
    sizes: dict[str, list[int]] = {}
    """Sizes set by the user, pixels, by name."""

    columns: dict[str, dict[str, int]] = {}
    """Columns of requirement lists by their first line: column index of each field."""

    @field_validator("text_size")
    @classmethod
    def _is_a_size(cls, value: int) -> int:
        if value not in TEXT_SIZES:
            raise ValueError("not a text size")
        return value

    @field_validator("log_level")
    @classmethod
    def _is_a_level(cls, value: str) -> str:
        if value not in LOG_LEVELS:
            raise ValueError("not a log level")
        return value

    @field_validator("csv")
    @classmethod
    def _is_a_style(cls, value: str) -> str:
        if value not in STYLES:
            raise ValueError("not a style of tables")
        return value

    def opened(self, path: Path) -> None:
        """Add a plan at the top of the recent ones."""
        text = str(path.resolve())
        self.recent = [text, *(p for p in self.recent if p != text)][:MOST_RECENT]


def settings_path() -> Path:
    """Path of the settings file."""
    return Path(platformdirs.user_config_dir("hemtra")) / "settings.json"


def load_settings() -> Settings:
    """The settings, or defaults for whatever cannot be read."""
    path = settings_path()
    if not path.exists():
        return Settings()
    try:
        content = parsed_json(read_text(path, LARGEST), "not JSON")
        if not isinstance(content, dict):
            raise ValueError
    except (FileError, ValueError):
        log.info("settings were damaged and are set aside as %s.damaged", path.name)
        with suppress(OSError):
            path.replace(path.with_suffix(".json.damaged"))
        return Settings()
    try:
        return Settings.model_validate(content)
    except ValidationError as error:
        wrong = {str(problem["loc"][0]) for problem in error.errors()}
        return Settings.model_validate({k: v for k, v in content.items() if k not in wrong})


def files_begin_at() -> Path:
    """The folder that is offered for files that belong to no open plan."""
    named = Path(load_settings().folder).expanduser()
    return named if named.is_absolute() and named.is_dir() else Path.home()


def save_settings(settings: Settings) -> None:
    """Keep the settings; not being able to is no reason to stop anyone."""
    path = settings_path()
    try:
        make_folder(path.parent)
        write_text(path, settings.model_dump_json(indent=1))
    except FileError as error:
        log.info("settings are not kept: %s", error)
