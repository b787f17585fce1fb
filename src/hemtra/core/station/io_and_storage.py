"""Connections and storage of a station: the I/O module, and the scans of its parts."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from hemtra.core.form_fields import Form, setting

Host = Annotated[str, StringConstraints(max_length=253, strip_whitespace=True)]
LINK_LOST = {"stop": "stop the line", "continue": "continue"}
KEPT = {
    "all": "all",
    "failed": "not passed",
    "every": "every n-th",
    "none": "none",
}


class IoBlock(Form):
    """The I/O module that signals go to, over Modbus TCP."""

    host: Host = setting("", "address", "Host name or IP address of the I/O module; empty for none.")
    port: Annotated[int, Field(ge=1, le=65_535)] = setting(502, "port", "Of Modbus TCP on the I/O module.")
    unit: Annotated[int, Field(ge=0, le=247)] = setting(1, "unit", "Modbus unit identifier of the I/O module.")
    simulated: bool = setting(
        False,
        "which",
        "Physical, or simulated on this computer.",
        choices={"False": "a real one", "True": "simulated"},
    )
    lost: Literal["stop", "continue"] = setting(
        "stop",
        "on link loss",
        "What the line does when the I/O module does not answer, or signals come too late.",
        choices=LINK_LOST,
    )
    late: Annotated[float, Field(gt=0.0, le=600.0)] = setting(
        1.0, "late after", "From a scan's end until its signals stand on the module, at most.", unit="s"
    )
    gate_late: Annotated[float, Field(ge=1.0, le=60_000.0)] = setting(
        100.0, "late at the gate", "From when a part is at its gate until that switches, at most.", unit="ms"
    )
    restart: Literal["reject", "ask"] = setting(
        "reject",
        "after a break",
        "What happens to parts that may still lie between the eye and a gate when the line starts again after"
        " it was cut off.",
        choices={"reject": "reject it", "ask": "ask first"},
    )


class Incoming(Form):
    """When a scan that is put into a watched folder is complete."""

    settle: Annotated[float, Field(ge=0.05, le=600.0)] = setting(
        0.5, "settles in", "A file that has not changed for so long is taken.", unit="s"
    )
    give_up: Annotated[float, Field(ge=0.0, le=86_400.0)] = setting(
        20.0,
        "waits for the rest",
        "A file that cannot be read as a whole is waited for so long before it is not measured.",
        unit="s",
    )


class ScanRetention(Form):
    """Scans to keep, and the disk space they may take."""

    scans: Literal["all", "failed", "every", "none"] = setting(
        "failed", "scans kept", "Values and verdicts of all parts are kept in any case.", choices=KEPT
    )
    every: Annotated[int, Field(ge=1, le=1_000_000)] = setting(
        10, "keep every nth", "Of parts that pass; what fails is kept too.", when={"scans": ("every",)}
    )
    budget: Annotated[float, Field(gt=0.0, le=100_000.0)] = setting(
        20.0, "disk for scans", "The oldest go when they take more.", unit="GB"
    )
    minimum_free: Annotated[float, Field(ge=0.0, le=10_000.0)] = setting(
        1.0, "left free", "With less free disk no scans are kept any more.", unit="GB"
    )

    backup: Annotated[float, Field(ge=0.0, le=10_000.0)] = setting(
        24.0, "copies of the records", "Every so many hours of a run; 0 for none.", unit="h"
    )
    backups: Annotated[int, Field(ge=1, le=1000)] = setting(
        7, "copies kept", "So many of the newest copies of the records."
    )
    archive: Annotated[float, Field(ge=0.0, le=100_000.0)] = setting(
        0.0,
        "archive after",
        "Lots that ended so long ago move to a file beside the records, one a year; 0 leaves them.",
        unit="d",
    )

    @property
    def looks_after(self) -> bool:
        """Whether a run copies or archives its records."""
        return self.backup > 0.0 or self.archive > 0.0

    def keeps(self, number: int, *, passed: bool) -> bool:
        """Whether the scan of a part is kept."""
        if self.scans == "all":
            return True
        if self.scans == "none":
            return False
        return not passed or (self.scans == "every" and number % self.every == 0)
