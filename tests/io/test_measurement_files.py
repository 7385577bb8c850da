"""Measurement files and bus logs written by independent libraries must come back the same."""

from __future__ import annotations

import io
import struct
from collections.abc import Callable
from pathlib import Path

import can
import h5py
import numpy as np
import openpyxl
import polars as pl
import pytest
from asammdf import MDF, Signal
from nptdms import ChannelObject, TdmsWriter
from scipy.io import savemat

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, RawLog
from nodrek.errors import NodrekError, NoWheelSpeeds
from nodrek.io.logs.read import read_log
from nodrek.io.logs.source import Request
from nodrek.jobs.analyze import request_for

TIMES = np.arange(400) * 0.02
SPEED = {c: 30.0 + 8 * np.sin(TIMES + k) + k for k, c in enumerate(Corner)}
NAMES = {c: f"WheelSpeed_{c}" for c in Corner}
REQUEST = request_for(None, ())


def check(raw: RawLog, tolerance: float = 1e-6) -> None:
    log = map_corners(raw)
    assert list(log.corners) == list(Corner)
    for corner, channel in log.channels.items():
        assert channel.unit == "km/h"
        np.testing.assert_allclose(channel.times, TIMES, atol=2e-6)
        np.testing.assert_allclose(channel.speed * 3.6, SPEED[corner], atol=tolerance)


def frame() -> pl.DataFrame:
    return pl.DataFrame({"time [s]": TIMES, **{f"{NAMES[c]} [km/h]": SPEED[c] for c in Corner}})


def write_mdf(path: Path, version: str) -> None:
    with MDF(version=version) as mdf:
        mdf.append([Signal(SPEED[c], TIMES, unit="km/h", name=NAMES[c]) for c in Corner])
        mdf.append([Signal(np.arange(50.0), np.arange(50) * 0.1, unit="1/min", name="EngineSpeed")])
        mdf.save(path, overwrite=True)


def write_hdf5(path: Path) -> None:
    with h5py.File(path, "w") as out:
        group = out.create_group("drive")
        group["time"] = TIMES
        for c in Corner:
            group[NAMES[c]] = SPEED[c]
            group[NAMES[c]].attrs["unit"] = "km/h"


def write_tdms(path: Path) -> None:
    steps = {"wf_increment": 0.02, "wf_start_offset": 0.0, "unit_string": "km/h"}
    with TdmsWriter(path) as out:
        out.write_segment([ChannelObject("drive", NAMES[c], SPEED[c], properties=steps) for c in Corner])


def write_mat(path: Path) -> None:
    savemat(path, {"time": TIMES, **{f"{NAMES[c]}_kmh": SPEED[c] for c in Corner}})


def write_mat_structures(path: Path) -> None:
    savemat(
        path,
        {f"ch{k}": {"name": NAMES[c], "unit": "km/h", "time": TIMES, "data": SPEED[c]} for k, c in enumerate(Corner)},
    )


def write_workbook(path: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.append(["Drive of van 3"])
    sheet.append(["time [s]", *(f"{NAMES[c]} [km/h]" for c in Corner)])
    for k, t in enumerate(TIMES):
        sheet.append([float(t), *(float(SPEED[c][k]) for c in Corner)])
    book.save(path)


WRITERS: dict[str, Callable[[Path], object]] = {
    "a.parquet": lambda p: frame().write_parquet(p),
    "a.arrow": lambda p: frame().write_ipc(p),
    "stream.arrow": lambda p: frame().write_ipc_stream(p),
    "v3.mdf": lambda p: write_mdf(p, "3.30"),
    "v4.mf4": lambda p: write_mdf(p, "4.10"),
    "a.h5": write_hdf5,
    "a.tdms": write_tdms,
    "v5.mat": write_mat,
    "v4.mat": lambda p: savemat(p, {"t": TIMES, **{f"{c}_kmh": SPEED[c] for c in Corner}}, format="4"),
    "structures.mat": write_mat_structures,
    "a.xlsx": write_workbook,
}


@pytest.mark.parametrize("name", WRITERS)
def test_measurement_files_come_back_the_same(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    WRITERS[name](path)
    check(read_log(path, REQUEST), 1e-5)


@pytest.mark.parametrize("name", WRITERS)
def test_damaged_measurement_files_get_their_sentence(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    WRITERS[name](path)
    content = path.read_bytes()
    rng = np.random.default_rng(1)
    for k in range(12):
        wounded = bytearray(content[: int(len(content) * rng.uniform(0.1, 1.0))])
        for at in rng.integers(0, len(wounded), 20):
            wounded[at] = int(rng.integers(0, 256))
        hurt = tmp_path / f"hurt-{k}-{name}"
        hurt.write_bytes(bytes(wounded))
        try:
            read_log(hurt, REQUEST)
        except NodrekError as error:
            assert "\n" not in str(error)  # noqa: PT017


DBC = """VERSION ""
BU_: ESP
BO_ 416 WheelSpeeds: 8 ESP
 SG_ WheelSpeed_FL : 7|16@0+ (0.01,0) [0|655.34] "km/h" Dash
 SG_ WheelSpeed_FR : 23|16@0+ (0.01,0) [0|655.34] "km/h" Dash
 SG_ WheelSpeed_RL : 39|16@0+ (0.01,0) [0|655.34] "km/h" Dash
 SG_ WheelSpeed_RR : 55|16@0+ (0.01,0) [0|655.34] "km/h" Dash
BO_ 432 WheelPulses: 8 ESP
 SG_ WheelPulse_FL : 0|8@1+ (1,0) [0|255] "" Dash
 SG_ WheelPulse_FR : 8|8@1+ (1,0) [0|255] "" Dash
"""
FLAWED = """BO_ 416 WheelSpeeds 8 ESP
 SG_ WheelSpeed_FL : 7|16@0+ (.01,0) [0|655.34] "km^h" Dash
 SG_ WheelSpeed_FR : 23|16@0+ (.01,0) [0|655.34]
 SG_ WheelSpeed_RL : 39|16@0 (1e-2,0) [] "km/h"
 SG_ WheelSpeed_RR :55|16@0+(0.01 , 0)[0|655.34] "km/h" Dash
 SG_ 2ndCounter : nonsense
BO_ 2566844926 3rdMessage: 8 ESP
CM_ "no object type and no semicolon
VAL_ 999 Nothing 1 "a" ;
BO_ 200000 Plain29: 8 X
"""


def wheel_frames() -> list[can.Message]:
    out = []
    for k, t in enumerate(TIMES):
        words = [round(100 * SPEED[c][k]) for c in Corner]
        out.append(
            can.Message(
                timestamp=float(t) + 1.0, arbitration_id=416, data=struct.pack(">4H", *words), is_extended_id=False
            )
        )
        pulses = bytes([k % 256, (2 * k) % 256, *bytes(6)])
        out.append(can.Message(timestamp=float(t) + 1.001, arbitration_id=432, data=pulses, is_extended_id=False))
    return out


@pytest.mark.parametrize("name", ["a.log", "a.asc", "a.blf", "a.trc", "a.csv", "a.mf4"])
@pytest.mark.parametrize("database", [DBC, FLAWED], ids=["sound", "flawed"])
def test_bus_logs_of_an_independent_writer(tmp_path: Path, name: str, database: str) -> None:
    path = tmp_path / name
    with can.Logger(path) as out:
        for message in wheel_frames():
            out(message)
    described = tmp_path / "bus.dbc"
    described.write_text(database)
    raw = read_log(path, request_for(None, (described,)))
    log = map_corners(raw)
    assert list(log.corners) == list(Corner)
    for corner, channel in log.channels.items():
        assert channel.name == NAMES[corner]
        np.testing.assert_allclose(channel.speed * 3.6, SPEED[corner], atol=0.0051)
        np.testing.assert_allclose(channel.times, TIMES, atol=2e-3)


def test_candump_with_spaces_and_pcap(tmp_path: Path) -> None:
    described = tmp_path / "bus.dbc"
    described.write_text(DBC)
    frames = [m for m in wheel_frames() if m.arbitration_id == 416]
    wide = tmp_path / "wide.txt"
    wide.write_text(
        "".join(f" ({m.timestamp:.6f})  can0  1A0   [8]  {' '.join(f'{b:02X}' for b in m.data)}\n" for m in frames)
    )
    capture = io.BytesIO()
    capture.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 227))
    for m in frames:
        body = struct.pack(">IB3x", 416, 8) + bytes(m.data)
        seconds = int(m.timestamp)
        capture.write(struct.pack("<IIII", seconds, round((m.timestamp - seconds) * 1e6), len(body), len(body)) + body)
    pcap = tmp_path / "a.pcap"
    pcap.write_bytes(capture.getvalue())
    for path in (wide, pcap):
        log = map_corners(read_log(path, request_for(None, (described,))))
        np.testing.assert_allclose(log.channels[Corner.RR].speed * 3.6, SPEED[Corner.RR], atol=0.0051)


def test_a_bus_log_without_a_database_asks_for_it(tmp_path: Path) -> None:
    path = tmp_path / "a.log"
    with can.Logger(path) as out:
        for message in wheel_frames():
            out(message)
    with pytest.raises(NoWheelSpeeds, match="--database"):
        read_log(path, REQUEST)
    other = tmp_path / "other.dbc"
    other.write_text(DBC.replace("416", "417"))
    with pytest.raises(NoWheelSpeeds, match="on the bus"):
        read_log(path, request_for(None, (other,)))


@pytest.mark.parametrize("message", ["high resolution", "EBC2"])
def test_heavy_vehicles_decode_without_a_database(tmp_path: Path, message: str) -> None:
    """SAE J1939-71, from memory: words of 1/256 km/h; relative speeds of 1/16 km/h, offset −7.8125."""
    path = tmp_path / "truck.log"
    speed = {c: SPEED[Corner.FL] + 0.5 * k for k, c in enumerate(Corner)}
    with can.Logger(path) as out:
        for k, t in enumerate(TIMES):
            if message == "EBC2":
                axle = speed[Corner.FL][k]
                relative = [round((speed[c][k] - axle + 7.8125) * 16) for c in Corner]
                data = struct.pack("<H", round(axle * 256)) + bytes(relative) + b"\xff\xff"
                identifier = 0x18FEBF0B
            else:
                data = struct.pack("<4H", *(round(speed[c][k] * 256) for c in Corner))
                identifier = 0x08FE6E0B
            out(can.Message(timestamp=float(t) + 1.0, arbitration_id=identifier, data=data, is_extended_id=True))
    log = map_corners(read_log(path, REQUEST))
    for corner in Corner:
        np.testing.assert_allclose(log.channels[corner].speed * 3.6, speed[corner], atol=0.04)


def test_signals_agree_with_cantools() -> None:
    """Our vectorised decoding against the library's, on random layouts and data."""
    import cantools

    from nodrek.io.bus.lenient_dbc import read_dbc
    from nodrek.io.bus.signals import physical_values, raw_values

    rng = np.random.default_rng(4)
    for _ in range(60):
        length = int(rng.integers(1, 33))
        little, signed = bool(rng.random() < 0.5), bool(rng.random() < 0.5)
        first = int(rng.integers(0, 64 - length + 1))
        start = first if little else 8 * (first // 8) + 7 - first % 8
        text = (
            f'VERSION ""\nBU_: A\nBO_ 291 M: 8 A\n SG_ S : {start}|{length}@{int(little)}{"-" if signed else "+"} '
            f'(0.25,-3) [0|0] "km/h" A\n'
        )
        data = rng.integers(0, 256, (20, 8), dtype=np.uint8)
        signal = read_dbc(text)[0][0].signals[0]
        ours = physical_values(raw_values(data, signal), signal)
        database = cantools.database.load_string(text, "dbc")
        theirs = [database.decode_message(291, bytes(row))["S"] for row in data]
        np.testing.assert_allclose(ours, theirs)


def test_only_the_request_decides_what_is_read() -> None:
    assert Request().keep("anything")
    keep = request_for({Corner.FL: "Odd name"}, ()).keep
    assert keep("Odd name")
    assert keep("WheelSpeed_FL")
    assert not keep("EngineTorque")


def hdf5_table(path: Path) -> None:
    """A compound data set, as table writers make them."""
    kinds = [("time", "f8"), *((f"{NAMES[c]}_kmh", "f8") for c in Corner)]
    table = np.zeros(TIMES.size, dtype=kinds)
    table["time"] = TIMES
    for c in Corner:
        table[f"{NAMES[c]}_kmh"] = SPEED[c]
    with h5py.File(path, "w") as out:
        out["log/table"] = table


def hdf5_rate(path: Path) -> None:
    """No clock, but a rate as attribute; other data of other lengths beside it."""
    with h5py.File(path, "w") as out:
        for c in Corner:
            out[f"signals/{NAMES[c]}/data"] = SPEED[c]
            out[f"signals/{NAMES[c]}/data"].attrs.update({"sample_rate": 50.0, "unit": "km/h"})
        out["picture"] = np.zeros((200, 300))
        out["note"] = "a drive"


def tdms_table(path: Path) -> None:
    """A time channel in place of waveform properties."""
    with TdmsWriter(path) as out:
        channels = [ChannelObject("drive", "time [s]", TIMES)]
        channels += [ChannelObject("drive", f"{NAMES[c]} [km/h]", SPEED[c]) for c in Corner]
        out.write_segment(channels)


def parquet_dates(path: Path) -> None:
    """Date-times with a zone, nullable numbers, a column of text."""
    stamps = pl.from_epoch(pl.Series((1.76e12 + 1e3 * TIMES).round().astype(np.int64)), time_unit="ms")
    frame().drop("time [s]").with_columns(
        stamps.dt.replace_time_zone("UTC").alias("recorded"), pl.lit("van 3").alias("vehicle")
    ).write_parquet(path)


def mat_matrix_struct(path: Path) -> None:
    """One structure with a field for each channel."""
    savemat(path, {"log": {"t": TIMES, **{f"{NAMES[c]}_kmh": SPEED[c] for c in Corner}, "who": "driver"}})


VARIANTS = {
    "table.h5": hdf5_table, "rate.h5": hdf5_rate, "table.tdms": tdms_table, "dates.parquet": parquet_dates,
    "structure.mat": mat_matrix_struct,
}  # fmt: skip


@pytest.mark.parametrize("name", VARIANTS)
def test_other_habits_of_the_same_formats(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    VARIANTS[name](path)
    check(read_log(path, REQUEST), 1e-5)
