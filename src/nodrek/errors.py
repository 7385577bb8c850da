"""Every error a person can cause, as one family.

    NodrekError            one sentence: what happened, where, what to do
    ├── UnreadableFile     the file is not there, not a log, broken or refused
    ├── NoWheelSpeeds      a log without (enough) wheel speeds
    │   └── NeedsDatabase  raw bus frames that only a database can read
    ├── UnclearCorners     wheel speeds whose corners only a person can name
    ├── NeverMoves         four wheel speeds of a vehicle that stands
    ├── BadRequest         wrong use: an option, a scenario, a range
    └── Cancelled          the person stopped the work; nothing is wrong

The window and the command line show ``str(error)`` and nothing else.
"""

from __future__ import annotations


class NodrekError(Exception):
    """One sentence for a person: what happened, where, what to do."""


class UnreadableFile(NodrekError):
    """The file cannot be read as a log."""


class NoWheelSpeeds(NodrekError):
    """The log holds no wheel speeds, or only one."""


class NeedsDatabase(NoWheelSpeeds):
    """Raw bus frames, and no database (or not the right one) to read them with."""


class UnclearCorners(NodrekError):
    """Wheel speeds are there, but which corner each belongs to is not."""


class NeverMoves(NodrekError):
    """No wheel turns fast enough for a comparison."""


class BadRequest(NodrekError):
    """The request itself is wrong: an option, a scenario, a range."""


class Cancelled(NodrekError):
    """The person stopped the work."""
