"""The corners of a vehicle, left and right as seen from the driver's seat."""

from __future__ import annotations

from enum import StrEnum


class Corner(StrEnum):
    """One corner. A vehicle may lack some; a two-sensor trailer has only the rear pair."""

    FL = "FL"
    FR = "FR"
    RL = "RL"
    RR = "RR"

    @property
    def is_left(self) -> bool:
        return self in (Corner.FL, Corner.RL)

    @property
    def is_front(self) -> bool:
        return self in (Corner.FL, Corner.FR)

    @property
    def mate(self) -> Corner:
        """The other side of the same axle: the yardstick of every check."""
        return _MATE[self]

    @property
    def signs(self) -> tuple[int, int, int]:
        """±1 of the corner in front − rear, left − right, and the diagonal FL + RR − FR − RL."""
        axle, side = 1 if self.is_front else -1, 1 if self.is_left else -1
        return axle, side, axle * side

    @property
    def words(self) -> str:
        """For people: ``"rear left"``."""
        return f"{'front' if self.is_front else 'rear'} {'left' if self.is_left else 'right'}"


_MATE = {
    Corner.FL: Corner.FR,
    Corner.FR: Corner.FL,
    Corner.RL: Corner.RR,
    Corner.RR: Corner.RL,
}
