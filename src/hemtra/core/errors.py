"""The errors whose message is meant for the user. Anything else that is raised is a bug."""


class HemtraError(Exception):
    """Something the user can understand and act on; the message says what happened and what to do."""


class PlanError(HemtraError):
    """A plan that cannot be used as it stands; the message names the place."""


class FileError(HemtraError):
    """A file that cannot be read or written."""


class NotMeasured(HemtraError):
    """A step could not give its value. The message is the reason, in the user's words."""


class OffScan(NotMeasured):
    """The scan cannot answer at all here: it holds no data, or the zone lies outside it.

    Still NOT MEASURED, and beyond that a sign that the plan and the scan do not belong together.
    """
