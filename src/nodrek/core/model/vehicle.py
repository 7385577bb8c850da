"""What is known of the vehicle. Everything may be unknown, and unknown is not guessed."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Driven(StrEnum):
    FRONT = "front"
    REAR = "rear"
    ALL = "all"
    NONE = "none"


@dataclass(frozen=True)
class Vehicle:
    """Only what the comparison of wheel speeds can use; lengths in metres."""

    label: str = ""
    driven: Driven | None = None
    teeth: int | None = None
    wheelbase_m: float | None = None
    track_m: float | None = None
