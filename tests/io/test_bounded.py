"""Readers of strangers' files are stopped when they take too much."""

from __future__ import annotations

import os
import time

import numpy as np
import pytest

from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import NeedsDatabase, NoWheelSpeeds, UnreadableFile
from nodrek.io.logs import bounded
from nodrek.io.logs.bounded import read_bounded


def loops() -> RawLog:
    while True:
        pass


def sleeps() -> RawLog:
    time.sleep(3600)
    return RawLog((), "test")


def eats() -> RawLog:
    np.ones(2**33)
    return RawLog((), "test")


def dies() -> RawLog:
    os.abort()


def refuses() -> RawLog:
    raise NeedsDatabase("bus.log needs a database: give one.")


@pytest.mark.parametrize("read", [loops, sleeps, eats, dies])
def test_what_takes_too_much_is_refused(monkeypatch: pytest.MonkeyPatch, read: object) -> None:
    monkeypatch.setattr(bounded, "SECONDS", 1.0)
    began = time.monotonic()
    with pytest.raises(UnreadableFile, match=r"hostile\.mf4 takes more time or memory"):
        read_bounded(read, 1000, "hostile.mf4")  # type: ignore[arg-type]
    assert time.monotonic() - began < 10.0


def test_a_refusal_comes_through_with_its_kind() -> None:
    with pytest.raises(NoWheelSpeeds, match="needs a database"):
        read_bounded(refuses, 1000, "bus.log")


def test_arrays_come_through_unchanged_and_shared() -> None:
    times = np.arange(1000) * 0.01
    values = np.where(times > 5, np.nan, times**2)
    sent = RawLog((RawChannel("a", "km/h", times, values), RawChannel("ö", None, times, times)), "x", ("note",))
    got = read_bounded(lambda: sent, 1000, "a")
    assert (got.format, got.warnings) == ("x", ("note",))
    assert [(c.name, c.unit) for c in got.channels] == [("a", "km/h"), ("ö", None)]
    np.testing.assert_array_equal(got.channels[0].values, values)
    assert got.channels[0].times_s is got.channels[1].times_s
