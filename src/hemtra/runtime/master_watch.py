"""Watches over the master part of a line: when it is due, and whether it passed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from hemtra.core.events import Event, sentence
from hemtra.core.plan.limits import Verdict
from hemtra.core.plan.master_part import HOUR, MasterPart
from hemtra.runtime.workers import Evaluated

MINUTE = 60.0


@dataclass
class MasterWatch:
    """Refuses parts while the master part is overdue or has failed.

    heard: gets what happens. passed: when it passed last, in s since 1970; None where it never did. wrong: what
    was wrong with it at the last inspection.
    """

    master: MasterPart
    heard: Callable[[Event], None]
    passed: float | None = None
    wrong: tuple[str, ...] = ()
    refusing: bool = False

    @classmethod
    def going_on(
        cls, master: MasterPart, heard: Callable[[Event], None], passed: Event | None, failed: Event | None
    ) -> MasterWatch:
        """With what is on record of this very part: when it passed last, and whether it has failed since."""
        passed, failed = (
            one if one is not None and one.fields.get("serial") == master.serial else None
            for one in (passed, failed)
        )
        made = cls(master, heard, None if passed is None else passed.time)
        if failed is not None and (made.passed is None or failed.time > made.passed):
            made.wrong = (str(failed.fields.get("why", failed.text)),)
        return made

    def is_master(self, found: Evaluated) -> bool:
        """Whether a part is the master part."""
        return found.serial == self.master.serial

    def present(self, found: Evaluated, now: float) -> None:
        """Take what a plan found on the master part."""
        self.wrong = (found.trouble,) if found.trouble else self.master.wrong(found.rows)
        if self.wrong:
            fields = {"serial": self.master.serial, "why": "; ".join(self.wrong)}
            self.heard(Event("master failed", now, fields=fields))
        else:
            self.passed, self.refusing = now, False
            self.heard(Event("master passed", now, fields={"serial": self.master.serial}))

    def due(self, now: float) -> str:
        """Reason why parts are refused now; empty where they are not."""
        if self.wrong:
            return sentence("master failed", {"serial": self.master.serial, "why": self.wrong[0]})
        if self.passed is None:
            return sentence("master missing", {"serial": self.master.serial})
        if self._is_to_come(self.passed, now):
            return sentence("master to come", {"serial": self.master.serial})
        at, shift = self.master.due_again(self.passed)
        if now <= at:
            return ""
        if shift is not None:
            return sentence("master for shift", {"serial": self.master.serial, "shift": f"{shift:%H:%M}"})
        hours = f"{(now - self.passed) / HOUR:.1f}"
        return sentence("master overdue", {"serial": self.master.serial, "hours": hours})

    def _is_to_come(self, passed: float, now: float) -> bool:
        """Whether a pass, by a clock that was wrong, lies too far ahead to tell what came after it."""
        return passed - now > (MINUTE if self.master.shifts else HOUR * self.master.hours)

    def state(self, now: float) -> tuple[str, bool]:
        """State in a few words, and whether parts may pass."""
        if self.wrong:
            return "failed", False
        if self.passed is None:
            return "not seen yet", False
        if self._is_to_come(self.passed, now):
            return "due: the clock was wrong", False
        at, shift = self.master.due_again(self.passed)
        if now <= at:
            return f"due in {(at - now) / HOUR:.1f} h", True
        which = "" if shift is None else f" for the shift at {shift:%H:%M}"
        return f"overdue by {(now - at) / HOUR:.1f} h{which}", False

    def allowed(self, found: Evaluated, now: float) -> Evaluated:
        """A part as it counts: NOT MEASURED while the master part is due, whatever it reads."""
        why = self.due(now)
        if not why:
            return found
        if not self.refusing:
            self.refusing = True
            self.heard(Event("refusing", now, fields={"why": why}))
        if found.verdict is Verdict.NOT_MEASURED:
            return found
        return replace(found, verdict=Verdict.NOT_MEASURED, trouble=why)
