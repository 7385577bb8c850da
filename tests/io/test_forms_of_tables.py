"""One drive in forms that tables take beside the usual one comes back as it was."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner
from nodrek.core.units import speed_factor, turn_factor
from nodrek.errors import NodrekError
from nodrek.io.logs.read import read_log

TIMES = np.round(np.arange(0.0, 90.0, 0.1), 1)
PACE = np.where(TIMES < 4.0, 0.0, 12.0 + 8.0 * np.sin(TIMES / 7.0))
MPS: dict[Corner, Array] = {c: PACE * (1.0 + 0.01 * k * (TIMES > 30.0)) for k, c in enumerate(Corner)}
KMH = {c: np.round(3.6 * v, 2) for c, v in MPS.items()}
NAMES = [c.value for c in Corner]


def cells(row: int, form: str = "{:.2f}", joined: str = ",") -> str:
    return joined.join(form.format(KMH[c][row]) for c in Corner)


def lines(head: str, row: Callable[[int], str]) -> str:
    return head + "".join(f"{row(k)}\n" for k in range(TIMES.size))


def clock(row: int) -> tuple[int, int, float]:
    since = 13 * 3600 + 59 * 60 + 5 + TIMES[row] + 1e-6
    return int(since // 3600), int(since // 60 % 60), float(since % 60)


def parts(row: int) -> str:
    hour, minute, second = clock(row)
    return f"2026,3,14,{hour},{minute},{second:.1f}"


def parts_and_ms(row: int) -> str:
    hour, minute, second = clock(row)
    return f"{hour};{minute};{int(second)};{round(second % 1 * 1000) % 1000}"


def stamp(row: int) -> str:
    hour, minute, second = clock(row)
    return f"{hour:02d}:{minute:02d}:{second:04.1f}"


def steps_by_axle(axles: str, sides: str, units: str, time: str) -> str:
    return lines(f"{time};{axles}\n;{sides}\n{units}\n", lambda k: f"{TIMES[k]:.1f};{cells(k, joined=';')}").replace(
        ".", ","
    )


def of_pages(row: int) -> str:
    """A report of columns of one width, a page of fifty rows after the other."""
    page = (
        f"\fPage {row // 50 + 1}   wheel speed report\n   Time      FL      FR      RL      RR\n"
        if row % 50 == 0
        else ""
    )
    return f"{page}{TIMES[row]:7.1f} {cells(row, '{:7.2f}', ' ')}"


LISTS = {c.value: KMH[c].tolist() for c in Corner}
FORMS: dict[str, str] = {
    "names in two lines": lines(
        "Time,Front,,Rear,\n,Left,Right,Left,Right\ns,km/h,km/h,km/h,km/h\n", lambda k: f"{TIMES[k]:.1f},{cells(k)}"
    ),
    "names in two lines, decimal commas": steps_by_axle(
        "Vorderachse;;Hinterachse;", "links;rechts;links;rechts", "[s];[km/h];[km/h];[km/h];[km/h]", "Zeit"
    ),
    "parts of a date": lines("Year,Month,Day,Hour,Minute,Second,FL,FR,RL,RR\n", lambda k: f"{parts(k)},{cells(k)}"),
    "parts of a second too": lines(
        "Std;Min;Sek;ms;VL;VR;HL;HR\n", lambda k: f"{parts_and_ms(k)};{cells(k, joined=';')}"
    ),
    "time since the row before": lines("dt_ms,FL,FR,RL,RR\n", lambda k: f"{100 + (-1) ** k * 3},{cells(k)}"),
    "step in seconds": lines("Time step [s],FL,FR,RL,RR\n", lambda k: f"0.1,{cells(k)}"),
    "hundredths": lines(
        "Time [ms],FL [0.01 km/h],FR [0.01 km/h],RL [0.01 km/h],RR [0.01 km/h]\n",
        lambda k: f"{round(1000 * TIMES[k])},{','.join(str(round(100 * KMH[c][k])) for c in Corner)}",
    ),
    "sums of the columns first": lines(
        "Name;Time;FL;FR;RL;RR\nUnit;s;km/h;km/h;km/h;km/h\nMin;0;0;0;0;0\nMax;90;72;73;74;75\n",
        lambda k: f";{TIMES[k]:.1f};{cells(k, joined=';')}",
    ),
    "a channel in each row": "\n".join(
        ["Export of a drive", "", "Time,s," + ",".join(f"{t:.1f}" for t in TIMES)]
        + [f"wheel speed {c},km/h," + ",".join(f"{v:.2f}" for v in KMH[c]) for c in Corner]
    ),
    "rows and channels counted beside their names": "Frame;Time;No;Name;Data\n" + "".join(
        f"{4 * k + n};{TIMES[k]:.1f};{16 + n};WheelSpeed{c};{KMH[c][k]:.2f}\n"
        for k in range(TIMES.size) for n, c in enumerate(Corner)),
    "a web page in one line": "<table><tr><th>Time (s)</th>" + "".join(f"<th>{c} km/h</th>" for c in Corner) + "</tr>"
    + "".join(f"<tr><td>{TIMES[k]:.1f}</td><td>{cells(k, joined='</td><td>')}</td></tr>" for k in range(TIMES.size))
    + "</table>",
    "rows in quotes": lines('"t,FL,FR,RL,RR"\n', lambda k: f'"{TIMES[k]:.1f},{cells(k)}"'),
    "a report of pages": lines("", of_pages) + "  Total 900 rows\n",
    "words in front of the values": lines("", lambda k: f"{stamp(k)} INFO wheel speeds: " + " ".join(
        f"{c} {KMH[c][k]:.2f} km/h" for c in Corner)),
    "names in cells": lines("", lambda k: f"{TIMES[k]:.1f}," + ",".join(f"{c},{KMH[c][k]:.2f}" for c in Corner)),
    "states in cells": lines(
        "Time,a,FL,b,FR,c,RL,d,RR\n",
        lambda k: f"{TIMES[k]:.1f},OK,{KMH[Corner.FL][k]},valid,{KMH[Corner.FR][k]},on,{KMH[Corner.RL][k]},"
        f"off,{KMH[Corner.RR][k]}",
    ),
    "units on the values": lines("", lambda k: f"{TIMES[k]:.1f}s " + " ".join(
        f"{c}={KMH[c][k]:.2f}km/h" for c in Corner)),
    "columns told one below the other": lines(
        "# Column 1: Time [s]\n" + "".join(f"# Column {k + 2}: Wheel speed {c} [km/h]\n" for k, c in enumerate(Corner)),
        lambda k: f"{TIMES[k]:.1f} {cells(k, joined=' ')}",
    ),
    "a counter of microseconds that runs over": lines(
        "tick_us,FL,FR,RL,RR\n", lambda k: f"{(round(TIMES[k] * 1e6) + 2**32 - 30_000_000) % 2**32},{cells(k)}"
    ),
    "parts of a day": lines("Time,FL,FR,RL,RR\n", lambda k: f"{0.5 + TIMES[k] / 86400:.9f},{cells(k)}"),
    "the month in a word": lines("Time,FL,FR,RL,RR\n", lambda k: f"3 May 2026 {stamp(k)},{cells(k)}"),
    "the year behind the clock": lines("Time,FL,FR,RL,RR\n", lambda k: f"Sun May  3 {stamp(k)} 2026,{cells(k)}"),
    "two clocks, one in words with a zone": lines(
        "GPS time,Device time,Bearing,FL,FR,RL,RR\n",
        lambda k: f"Wed Mar 04 {stamp(k)[:8]} GMT+01:00 2026,04-Mar-2026 {stamp(k)},{k % 360},{cells(k)}",
    ),
    "words of a program in front": lines("", lambda k: f"05-03 {stamp(k)}  1234  1300 D Wheels: " + " ".join(
        f"{c}={KMH[c][k]:.2f}" for c in Corner)),
    "words of a program and a number in brackets": lines("", lambda k: f"May  3 {stamp(k)} van logger[22]: " + " ".join(
        f"{c}={KMH[c][k]:.2f}" for c in Corner)),
    "lists and a rate": json.dumps({"info": {"sample_rate": 10}, "unit": "km/h", "data": LISTS}),
    "lists and an interval": json.dumps({"interval_ms": 100, **LISTS}),
    "channels with clocks": json.dumps(
        [{"name": f"wheel {n}", "unit": "km/h", "time": TIMES.tolist(), "value": v} for n, v in LISTS.items()]
    ),
    "channels of pairs": json.dumps(
        {"channels": [{"name": n, "samples": list(zip(TIMES.tolist(), v, strict=True))} for n, v in LISTS.items()]}
    ),
    "names and rows apart": json.dumps(
        {"columns": ["t", *NAMES], "data": [[t, *(LISTS[n][k] for n in NAMES)] for k, t in enumerate(TIMES.tolist())]}
    ),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
def test_a_drive_comes_back(tmp_path: Path, form: str) -> None:
    path = tmp_path / "drive.txt"
    path.write_text(FORMS[form], encoding="utf-8")
    log = map_corners(read_log(path))
    assert log.duration == pytest.approx(TIMES[-1], abs=0.5)
    assert "km/h" not in FORMS[form] or not any("names no unit" in warning for warning in log.warnings)
    for corner in Corner:
        channel = log.channels[corner]
        assert channel.times.size == pytest.approx(TIMES.size, abs=2)
        was = np.interp(channel.times, TIMES, MPS[corner])
        assert np.median(np.abs(channel.speed - was)) < 0.01


@pytest.mark.parametrize(
    ("name", "text"),
    [
        # a count of rows is no clock, and nothing says how fast rows come
        ("index.csv", lines("Sample,FL,FR,RL,RR\n", lambda k: f"{k},{cells(k)}")),
        # one long row among short ones
        ("long.csv", "FL," + ",".join(["1"] * 100_000) + "\n" + "FR,1,2,3\n" * 300),
    ],
)
def test_what_is_no_drive_is_refused_in_one_sentence(tmp_path: Path, name: str, text: str) -> None:
    path = tmp_path / name
    path.write_text(text, encoding="utf-8")
    with pytest.raises(NodrekError) as told:
        map_corners(read_log(path))
    assert "\n" not in str(told.value)


@pytest.mark.parametrize(
    ("spelling", "kmh"),
    [("0.01 km/h", 0.01), ("1/16 km/h", 0.0625), ("10^-2 km/h", 0.01), ("0,1km/h", 0.1), ("x 0.5 km/h", 0.5),
     ("0 km/h", None), ("1/0 km/h", None), ("1e-400 km/h", None), ("1/min", None), ("12 o'clock", None)],
)  # fmt: skip
def test_units_may_be_counts_of_so_many(spelling: str, kmh: float | None) -> None:
    found = speed_factor(spelling)
    assert found is None if kmh is None else found == pytest.approx(kmh / 3.6)
    assert turn_factor("1/min") == pytest.approx(1 / 60)
