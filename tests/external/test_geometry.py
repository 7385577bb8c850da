"""The simulator's steady bend against closed-form geometry of circles."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nodrek.core.model import Corner, Driven
from nodrek.simulate.car import Car, Tyre, ground_speed, wheel_turns
from nodrek.simulate.drive import steady_drive


@given(st.floats(5.0, 200.0), st.floats(2.0, 3.5), st.floats(1.3, 1.8), st.booleans())
@settings(max_examples=60, deadline=None)
def test_each_wheel_runs_on_its_own_circle(radius: float, wheelbase: float, track: float, left: bool) -> None:
    """Distance of each wheel from the centre of rotation, by Pythagoras, over the rear centre's."""
    car = Car(wheelbase=wheelbase, track=track)
    curvature = (1.0 if left else -1.0) / radius
    for corner in Corner:
        inner = corner.is_left == left
        across = radius + (-track / 2 if inner else track / 2)
        distance = np.hypot(across, wheelbase) if corner.is_front else abs(across)
        speed = ground_speed(car, corner, np.array([10.0]), np.array([curvature]))
        assert speed[0] == pytest.approx(10.0 * distance / radius, rel=1e-12)


def test_squares_obey_the_flag_theorem() -> None:
    """FL² + RR² = FR² + RL² for wheels on a rectangle (British flag theorem)."""
    car, v, k = Car(), np.array([8.0]), np.array([1 / 9.0])
    s = {c: float(ground_speed(car, c, v, k)[0]) ** 2 for c in Corner}
    assert s[Corner.FL] + s[Corner.RR] == pytest.approx(s[Corner.FR] + s[Corner.RL], rel=1e-12)


@pytest.mark.parametrize("corner", list(Corner))
def test_turns_of_a_steady_circle(corner: Corner) -> None:
    """Turns = path length / circumference; no slip without drive, no noise without a road."""
    car = Car(driven=Driven.NONE, tyres={c: Tyre(growth=0.0, unround=0.0) for c in Corner})
    drive = steady_drive(speed=10.0, curvature=1 / 25.0, duration=20.0)
    t, turns = wheel_turns(car, corner, drive, None, np.random.default_rng(0))
    across = 25.0 + (-1 if corner.is_left else 1) * car.track / 2
    radius = np.hypot(across, car.wheelbase) if corner.is_front else across
    expected = 10.0 / 25.0 * radius * (t[-1] - t[0]) / car.circumference
    assert turns[-1] - turns[0] == pytest.approx(expected, rel=1e-6)
