"""Which column is which corner: the usual ways of naming them, and what must not be taken."""

from __future__ import annotations

import numpy as np
import pytest

from nodrek.core.corners import choose_channels, corner_of, map_corners
from nodrek.core.model import Corner, RawChannel, RawLog
from nodrek.core.units import speed_factor, time_factor
from nodrek.errors import BadRequest, NoWheelSpeeds, UnclearCorners, UnreadableFile

TIMES = np.arange(200) * 0.05
SPEED = 40 + 10 * np.sin(TIMES)


def raw(*columns: tuple[str, str | None], values: np.ndarray = SPEED) -> RawLog:
    return RawLog(tuple(RawChannel(n, u, TIMES, values) for n, u in columns), "test")


NAMINGS = [
    ("FL", "FR", "RL", "RR"),
    ("Wheel speed FL", "Wheel speed FR", "Wheel speed RL", "Wheel speed RR"),
    ("LF Wheel Speed", "RF Wheel Speed", "LR Wheel Speed", "RR Wheel Speed"),
    ("wheelSpeedFrontLeft", "wheelSpeedFrontRight", "wheelSpeedRearLeft", "wheelSpeedRearRight"),
    ("whl_spd_fl", "whl_spd_fr", "whl_spd_rl", "whl_spd_rr"),
    ("Left front wheel", "Right front wheel", "Left rear wheel", "Right rear wheel"),
    ("Drehzahl VL", "Drehzahl VR", "Drehzahl HL", "Drehzahl HR"),
    ("Rad vorne links", "Rad vorne rechts", "Rad hinten links", "Rad hinten rechts"),
    ("Vitesse roue AVG", "Vitesse roue AVD", "Vitesse roue ARG", "Vitesse roue ARD"),
    ("WheelSpeed_FL_Kph", "WheelSpeed_FR_Kph", "WheelSpeed_RL_Kph", "WheelSpeed_RR_Kph"),
    ("vFL", "vFR", "vRL", "vRR"),
    ("ABS: front axle, wheel speed, left", "ABS: front axle, wheel speed, right",
     "ABS: rear axle, wheel speed, left", "ABS: rear axle, wheel speed, right"),
    ("Brake control: wheel speed FL", "Brake control: wheel speed FR",
     "Brake control: wheel speed RL", "Brake control: wheel speed RR"),
    ("Velocidad rueda delantera izquierda", "Velocidad rueda delantera derecha",
     "Velocidad rueda trasera izquierda", "Velocidad rueda trasera derecha"),
    ("Velocità ruota anteriore sinistra", "Velocità ruota anteriore destra",
     "Velocità ruota posteriore sinistra", "Velocità ruota posteriore destra"),
    ("Prędkość koła przód lewy", "Prędkość koła przód prawy", "Prędkość koła tył lewy", "Prędkość koła tył prawy"),
    ("Velocidade roda dianteira esquerda", "Velocidade roda dianteira direita",
     "Velocidade roda traseira esquerda", "Velocidade roda traseira direita"),
    ("Wielsnelheid linksvoor", "Wielsnelheid rechtsvoor", "Wielsnelheid linksachter", "Wielsnelheid rechtsachter"),
    ("Hjulhastighet vänster fram", "Hjulhastighet höger fram", "Hjulhastighet vänster bak", "Hjulhastighet höger bak"),
    ("Rychlost kola přední levé", "Rychlost kola přední pravé", "Rychlost kola zadní levé",
     "Rychlost kola zadní pravé"),
    ("Vitesse roue avant gauche", "Vitesse roue avant droite", "Vitesse roue arrière gauche",
     "Vitesse roue arrière droite"),
    ("Radgeschw. VL", "Radgeschw. VR", "Radgeschw. HL", "Radgeschw. HR"),
    ("WheelSpeedFrntLft", "WheelSpeedFrntRgt", "WheelSpeedRrLft", "WheelSpeedRrRgt"),
    ("Wheel_Speed_F_L", "Wheel_Speed_F_R", "Wheel_Speed_R_L", "Wheel_Speed_R_R"),
    ("WHL_SPD_LH_FRONT", "WHL_SPD_RH_FRONT", "WHL_SPD_LH_REAR", "WHL_SPD_RH_REAR"),
    ("RearAxle.1 FL speed", "RearAxle.1 FR speed", "RearAxle.1 RL speed", "RearAxle.1 RR speed"),
    ("WHL_LH_FRT", "WHL_RH_FRT", "WHL_LH_RR", "WHL_RH_RR"), ("SpdFrL", "SpdFrR", "SpdRrL", "SpdRrR"),
    ("Rad v.l.", "Rad v.r.", "Rad h.l.", "Rad h.r."), ("Speed N/S/F", "Speed O/S/F", "Speed N/S/R", "Speed O/S/R"),
    ("WhlSpdLeFrt", "WhlSpdRiFrt", "WhlSpdLeRe", "WhlSpdRiRe"), ("lfws", "rfws", "lrws", "rrws"),
    ("左前轮速", "右前轮速", "左后轮速", "右后轮速"), ("左前輪 速度", "右前輪 速度", "左後輪 速度", "右後輪 速度"),
    ("Linkervoorwiel", "Rechtervoorwiel", "Linkerachterwiel", "Rechterachterwiel"),
    ("WhlSpdFrL", "WhlSpdFrR", "WhlSpdReL", "WhlSpdReR"), ("Whl_Fr_Le", "Whl_Fr_Ri", "Whl_Re_Le", "Whl_Re_Ri"),
    ("Axle 1 left", "Axle 1 right", "Axle 2 left", "Axle 2 right"), ("WSP_LHF", "WSP_RHF", "WSP_LHR", "WSP_RHR"),
    ("NSF", "OSF", "NSR", "OSR"), ("Speed FL (ABS)", "Speed FR (ABS)", "Speed RL (ABS)", "Speed RR (ABS)"),
    ("Скорость колеса ПЛ", "Скорость колеса ПП", "Скорость колеса ЗЛ", "Скорость колеса ЗП"),
    ("Переднее левое колесо, скорость", "Переднее правое колесо, скорость", "Заднее левое колесо, скорость",
     "Заднее правое колесо, скорость"),
    ("Швидкість переднє ліве", "Швидкість переднє праве", "Швидкість заднє ліве", "Швидкість заднє праве"),
    ("Hjulhastighed forrest venstre", "Hjulhastighed forrest højre", "Hjulhastighed bagest venstre",
     "Hjulhastighed bagest højre"),
    ("Bal első kerék sebesség", "Jobb első kerék sebesség", "Bal hátsó kerék sebesség", "Jobb hátsó kerék sebesség"),
    ("Pyörän nopeus etu vasen", "Pyörän nopeus etu oikea", "Pyörän nopeus taka vasen", "Pyörän nopeus taka oikea"),
    ("Sol ön tekerlek hızı", "Sağ ön tekerlek hızı", "Sol arka tekerlek hızı", "Sağ arka tekerlek hızı"),
]  # fmt: skip
SYSTEMS = [
    ("omega_11", "omega_12", "omega_21", "omega_22"), ("fl_ws", "fr_ws", "bl_ws", "br_ws"),
    ("v_di", "v_dd", "v_ti", "v_td"), ("Ruota AS", "Ruota AD", "Ruota PS", "Ruota PD"),
    ("Koło LP", "Koło PP", "Koło LT", "Koło PT"), ("Wiel LV", "Wiel RV", "Wiel LA", "Wiel RA"),
    ("Hjul VF", "Hjul HF", "Hjul VB", "Hjul HB"), ("Kolo PL", "Kolo PP", "Kolo ZL", "Kolo ZP"),
    ("Roda DE", "Roda DD", "Roda TE", "Roda TD"),
]  # fmt: skip


@pytest.mark.parametrize("names", SYSTEMS, ids=lambda n: n[0])
def test_abbreviations_that_only_make_sense_together(names: tuple[str, ...]) -> None:
    log = map_corners(raw(*((n, "km/h") for n in names)))
    assert [log.channels[c].name for c in Corner] == list(names)


@pytest.mark.parametrize(
    ("unit", "turns_a_second"),
    [("rpm", 1 / 60), ("rad·s⁻¹", 1 / (2 * np.pi)), ("Umdr/min", 1 / 60), ("°/s", 1 / 360)],
)
def test_turning_is_brought_to_a_nominal_speed_and_said(unit: str, turns_a_second: float) -> None:
    log = map_corners(raw(*((f"Wheel {n}", unit) for n in ("FL", "FR"))))
    np.testing.assert_allclose(log.channels[Corner.FL].speed, SPEED * turns_a_second * 1.95)
    assert any("ratios are right" in w for w in log.warnings)


NAMES = ["FL_kmh", "WheelSpeed_FL_Kph", "Speed FL (km/h)", "vFL_mps", "wheel FL mph", "v_FL_m_s", "freq_FL_Hz"]


@pytest.mark.parametrize("name", NAMES)
def test_a_unit_may_stand_in_the_name(name: str) -> None:
    log = map_corners(raw((name, None), (name.replace("FL", "FR"), None)))
    assert not log.channels[Corner.FL].unit_guessed


def test_a_rate_in_the_name_is_no_unit() -> None:
    assert map_corners(raw(("Speed FL 100Hz", None), ("Speed FR 100Hz", None))).channels[Corner.FL].unit_guessed


GONE = (np.arange(TIMES.size) // 10) % 7 == 3


def with_flags(names: list[str], told: np.ndarray, times: np.ndarray = TIMES) -> RawLog:
    """Four plain wheel speeds, and a column of 0 and 1 for each corner; only that of the rear left is `told`."""
    speeds = [RawChannel(f"WhlSpd{c}", "km/h", TIMES, SPEED) for c in Corner]
    quiet = np.full(times.size, float(told[0]))
    flags = [RawChannel(n, None, times, told if n == names[2] else quiet) for n in names]
    return RawLog((*speeds, *flags), "test")


@pytest.mark.parametrize(
    ("form", "good"),
    [("WhlSpd{}_Vld", 1), ("WhlSpdVld{}", 1), ("Valid {}", 1), ("{} wheel speed valid", 1), ("gültig {}", 1),
     ("WhlSpdErr{}", 0), ("{}_invalid", 0), ("abs_sensor_error_{}", 0), ("Fehler {}", 0)],
)  # fmt: skip
def test_what_another_column_declares_invalid_is_no_speed(form: str, good: int) -> None:
    names = [form.format(c) for c in Corner]
    told = np.where(GONE, 1.0 - good, float(good))
    log = map_corners(with_flags(names, told))
    for corner, channel in log.channels.items():
        assert channel.name == f"WhlSpd{corner}"
        assert np.array_equal(channel.invalid, GONE if corner is Corner.RL else np.zeros_like(GONE))
    assert not any("Another set" in said for said in log.warnings)
    # told every fifth row, it holds until it is told again
    log = map_corners(with_flags(names, told[::5], TIMES[::5]))
    assert np.array_equal(log.channels[Corner.RL].invalid, GONE)


def test_columns_that_declare_something_else_or_most_of_what_goes_on_are_left_aside() -> None:
    for form in ("Tyre pressure valid {}", "BrkPresErr{}", "{} status", "{}_qf", "ABS fault {}"):
        log = map_corners(with_flags([form.format(c) for c in Corner], np.where(GONE, 0.0, 1.0)))
        assert not log.channels[Corner.RL].invalid.any(), form
    log = map_corners(with_flags([f"WhlSpd{c}_Vld" for c in Corner], GONE.astype(float)))
    assert not any(channel.invalid.any() for channel in log.channels.values())
    assert any("not believed" in said for said in log.warnings)


@pytest.mark.parametrize("code", [-1.0, -999.0, 250.0, 327.67])
def test_codes_among_speeds_are_set_apart(code: float) -> None:
    values = np.where(np.arange(TIMES.size) % 17 == 3, code, SPEED)
    log = map_corners(RawLog((RawChannel("FL", "km/h", TIMES, values), RawChannel("FR", "km/h", TIMES, SPEED)), "test"))
    assert log.channels[Corner.FL].invalid.sum() == (values == code).sum()
    assert any("no valid value" in w for w in log.warnings)


def test_values_that_no_vehicle_reaches_are_readings_where_each_is_another() -> None:
    """Edges that come too early make any period; a code for "no valid value" is one and the same."""
    wild = SPEED.copy()
    wild[20::23] = np.linspace(455.0, 910.0, wild[20::23].size)
    names = [(n, "km/h") for n in ("FL", "FR")]
    log = map_corners(RawLog((RawChannel(*names[0], TIMES, wild), RawChannel(*names[1], TIMES, SPEED)), "test"))
    assert not log.channels[Corner.FL].invalid.any()
    assert 100.0 < float(log.channels[Corner.FL].speed.max()) < 120.0
    # what is declared to be none stays none among them
    flag = RawChannel("FL valid", None, TIMES, np.where(GONE, 0.0, 1.0))
    log = map_corners(RawLog((RawChannel(*names[0], TIMES, wild), RawChannel(*names[1], TIMES, SPEED), flag), "test"))
    assert np.array_equal(log.channels[Corner.FL].invalid, GONE)


def test_reversing_is_no_code() -> None:
    values = SPEED - 45.0
    log = map_corners(RawLog(tuple(RawChannel(n, "km/h", TIMES, values) for n in ("FL", "FR")), "test"))
    assert not log.channels[Corner.FL].invalid.any()
    assert (log.channels[Corner.FL].speed >= 0).all()


def test_a_clock_coarser_than_the_rows_is_spread() -> None:
    """Ten rows a second stamped with whole seconds."""
    times = np.floor(TIMES)
    log = map_corners(RawLog(tuple(RawChannel(n, "km/h", times, SPEED) for n in ("FL", "FR")), "test"))
    channel = log.channels[Corner.FL]
    assert channel.samples == TIMES.size
    np.testing.assert_allclose(channel.times, TIMES, atol=0.051)


@pytest.mark.parametrize("names", NAMINGS, ids=lambda n: n[0])
def test_usual_names_are_understood(names: tuple[str, ...]) -> None:
    assert [corner_of(n) for n in names] == list(Corner)
    log = map_corners(raw(*((n, "km/h") for n in names)))
    assert [log.channels[c].name for c in Corner] == list(names)
    assert all(log.channels[c].confidence >= 0.9 for c in Corner)


@pytest.mark.parametrize("name", [
    "Brake pressure FL", "Wheel torque FL", "Tyre pressure FL", "Slip FL", "Ride height FL", "Pulse counter FL",
    "Door FL", "Tyre temperature FL", "左前胎压", "Wheel speed FL valid",
])  # fmt: skip
def test_other_quantities_of_a_corner_are_left_alone(name: str) -> None:
    choice = choose_channels(raw((name, None), ("Wheel speed FL", "km/h"), ("Wheel speed FR", "km/h")), {})
    assert choice.channels[Corner.FL].name == "Wheel speed FL"


def test_columns_without_a_number_are_named() -> None:
    empty = RawChannel("FL", "km/h", TIMES, np.full(TIMES.size, np.nan))
    with pytest.raises(NoWheelSpeeds, match='no numbers in "FL"'):
        map_corners(RawLog((empty, RawChannel("Engine speed", "1/min", TIMES, SPEED)), "test"))


def test_no_wheel_speeds_says_what_there_is() -> None:
    with pytest.raises(NoWheelSpeeds, match="Engine speed"):
        map_corners(raw(("Engine speed", "1/min"), ("Oil temperature", "°C")))


def test_one_corner_is_not_enough() -> None:
    with pytest.raises(NoWheelSpeeds, match="at least two corners"):
        map_corners(raw(("Wheel speed FL", "km/h"), ("Engine speed", "1/min")))


def test_numbers_in_place_of_corners_are_asked_about() -> None:
    with pytest.raises(UnclearCorners, match="do not tell the corners"):
        map_corners(raw(*((f"Wheel speed sensor {k}", "km/h") for k in (1, 2, 3, 4))))


def test_of_two_sets_the_finer_is_taken_and_the_other_named() -> None:
    """Coarse copies of the speeds, and counters with the same corner names, are common on a bus."""
    coarse = [RawChannel(f"Dash wheel speed {c}", "km/h", TIMES, np.round(SPEED)) for c in Corner]
    fine = [RawChannel(f"Brakes wheel speed {c}", "km/h", TIMES, SPEED) for c in Corner]
    counters = [RawChannel(f"Wheel pulse counter {c}", None, TIMES, np.floor(TIMES * 90) % 256) for c in Corner]
    log = map_corners(RawLog((*counters, *coarse, *fine), "test"))
    assert all(ch.name.startswith("Brakes") for ch in log.channels.values())
    assert any("Dash wheel speed" in w for w in log.warnings)


def test_a_person_may_name_columns_with_or_without_unit() -> None:
    log = raw(("a", "km/h"), ("b", "km/h"), ("c", "km/h"))
    chosen = choose_channels(log, {Corner.RL: "a", Corner.RR: "B [km/h]"})
    assert {c: ch.name for c, ch in chosen.channels.items()} == {Corner.RL: "a", Corner.RR: "b"}
    with pytest.raises(BadRequest, match='no column "d"'):
        choose_channels(log, {Corner.RL: "d"})


@pytest.mark.parametrize(
    ("unit", "metres_per_second"),
    [("km/h", 1 / 3.6), ("MPH", 0.44704), ("[m/s]", 1.0), ("kn", 1852 / 3600), ("ft/s", 0.3048), ("km.h-1", 1 / 3.6),
     ("m·s⁻¹", 1.0), ("m s^-1", 1.0), ("Kilometre / hour", 1 / 3.6)],
)  # fmt: skip
def test_units_are_brought_to_metres_per_second(unit: str, metres_per_second: float) -> None:
    """A mile is 1609.344 m and a foot 0.3048 m exactly (international yard and pound agreement, 1959), a nautical mile
    1852 m (international hydrographic conference, 1929); all from memory."""
    assert speed_factor(unit) == pytest.approx(metres_per_second)
    log = map_corners(raw(*((n, unit) for n in ("FL", "FR"))))
    np.testing.assert_allclose(log.channels[Corner.FL].speed, SPEED * metres_per_second)


def test_a_unit_that_is_no_speed_is_named() -> None:
    with pytest.raises(NoWheelSpeeds, match='"FL" is in "bar"'):
        map_corners(raw(("FL", "bar"), ("FR", "bar")))


def test_time_units() -> None:
    assert [time_factor(u) for u in ("s", "ms", "µs", "km/h", None)] == [1.0, 1e-3, 1e-6, None, None]


@pytest.mark.parametrize(
    ("scale", "unit"), [(1.0, "km/h"), (1 / 3.6, "m/s"), (1000 / 60 / 1.95, "rpm"), (350 / 58, "rpm")]
)
def test_a_missing_unit_is_guessed_and_said(scale: float, unit: str) -> None:
    """Nobody brakes a car with 3.6 times its grip: the rate of change tells km/h from m/s. Hundreds of different
    values that no vehicle reaches are turns: 58 km/h are about 500 a minute (1.95 m a turn), and so are values up to
    350 that change by 50 a second. From sample to sample counted edges change by far more."""
    counts = 0.3 * np.random.default_rng(5).standard_normal(TIMES.size)
    speed = np.clip(30 + 28 * np.sin(TIMES * 0.32) + counts, 0, None) * scale
    log = map_corners(raw(("FL", None), ("FR", None), values=speed))
    assert {c.unit for c in log.channels.values()} == {unit}
    assert all(c.unit_guessed for c in log.channels.values())
    assert any(unit in w for w in log.warnings)
    factor = 1.95 / 60 if unit == "rpm" else 1 / scale / 3.6
    np.testing.assert_allclose(log.channels[Corner.FL].speed, speed * factor, atol=1e-9)


def test_a_dead_corner_has_no_say_in_the_unit() -> None:
    dead = [RawChannel(name, None, TIMES, np.zeros(TIMES.size)) for name in ("FL", "RL")]
    log = map_corners(RawLog((*dead, RawChannel("FR", None, TIMES, 8.0 + 7.0 * np.sin(TIMES * 0.3))), "test"))
    assert {c.unit for c in log.channels.values()} == {"m/s"}


@pytest.mark.parametrize("sentinel", [655.35, 255.99, 6553.5])
def test_all_ones_are_no_speed(sentinel: float) -> None:
    """65535 × 0.01 = 655.35 means "no valid value" (common practice, no published source)."""
    values = np.where(TIMES > 5, sentinel, SPEED)
    log = map_corners(RawLog((RawChannel("FL", "km/h", TIMES, values), RawChannel("FR", "km/h", TIMES, SPEED)), "test"))
    assert log.channels[Corner.FL].invalid.sum() == (TIMES > 5).sum()
    assert not log.channels[Corner.FR].invalid.any()


def test_raw_counts_of_a_bus_are_no_speeds_and_that_is_said() -> None:
    counts = RawLog(tuple(RawChannel(f"Raw {c}", None, TIMES, np.round(100.0 * SPEED + 900.0)) for c in Corner), "test")
    with pytest.raises(UnreadableFile, match=r'"Raw FL" reads up to \d+, which is no speed in km/h: export'):
        map_corners(counts)


def test_rows_out_of_order_and_repeated_are_mended_and_said() -> None:
    times = TIMES.copy()
    times[[50, 51]] = times[[51, 50]]
    times[100] = times[99]
    log = map_corners(RawLog(tuple(RawChannel(n, "km/h", times, SPEED) for n in ("FL", "FR")), "test"))
    channel = log.channels[Corner.FL]
    assert (np.diff(channel.times) > 0).all()
    assert channel.samples == TIMES.size - 1
    assert any("out of order" in w for w in log.warnings)
    assert any("repeat" in w for w in log.warnings)


@pytest.mark.parametrize("nonsense", [1e18, -1e15, float("inf")])
def test_single_stamps_of_nonsense_are_left_out(nonsense: float) -> None:
    times = TIMES.copy()
    times[77] = nonsense
    log = map_corners(RawLog(tuple(RawChannel(n, "km/h", times, SPEED) for n in ("FL", "FR")), "test"))
    assert log.channels[Corner.FL].samples == TIMES.size - 1
    assert log.duration == pytest.approx(TIMES[-1])


def test_a_clock_that_is_set_while_logging_is_joined() -> None:
    times = np.where(np.arange(TIMES.size) < 120, TIMES, TIMES + 1.7e9)
    log = map_corners(RawLog(tuple(RawChannel(n, "km/h", times, SPEED) for n in ("FL", "FR")), "test"))
    assert log.channels[Corner.FL].samples == TIMES.size
    assert log.duration == pytest.approx(TIMES[-1] + 10.0, abs=0.1)
    assert any("clock jumps" in w for w in log.warnings)


@pytest.mark.parametrize(("period", "step"), [(0.25, 0.1), (0.1, 0.1), (0.02, 0.01), (0.0301, 0.01), (0.2, 1.0)])
@pytest.mark.parametrize("cut", [True, False])
def test_rows_of_a_steady_clock_keep_to_it_however_coarse_their_stamps(period: float, step: float, cut: bool) -> None:
    """Rows each few hundredths of their interval early or late, and two seconds without any; where stamps are rounded
    the start is not known better than a step."""
    rng = np.random.default_rng(round(1e4 * period))
    times = 0.043 + period * (np.arange(round(120.0 / period)) + 0.02 * rng.standard_normal(round(120.0 / period)))
    times = times[(times < 60.0) | (times > 62.0)]
    stamps = (np.floor if cut else np.rint)(times / step + 1e-9) * step
    speed = 50.0 + 5.0 * np.sin(times / 3.0)
    log = map_corners(RawLog(tuple(RawChannel(n, "km/h", stamps, speed) for n in ("FL", "FR")), "test"))
    found = log.channels[Corner.FL].times
    assert found.size == times.size
    assert np.std(found - times) < 0.05 * period + 0.02 * step


@pytest.mark.parametrize("missing", [1, 2, 40])
def test_rows_that_are_missing_are_no_slower_clock(missing: int) -> None:
    """Ten rows a second, stamped in tenths: cells that hold nothing leave holes of two steps, by chance."""
    times = np.arange(400) / 10.0
    gone = np.random.default_rng(2).choice(np.arange(1, 399), missing, replace=False)
    times = np.delete(times, gone)
    speed = 50.0 + 5.0 * np.sin(times / 3.0)
    log = map_corners(RawLog(tuple(RawChannel(n, "km/h", times, speed) for n in ("FL", "FR")), "test"))
    np.testing.assert_allclose(log.channels[Corner.FL].times, times, atol=1e-9)


def test_rows_that_are_written_twice_are_no_coarse_clock() -> None:
    times = np.sort(np.concatenate([TIMES, TIMES[5:60:7]]))
    speed = 30.0 + times
    log = map_corners(RawLog(tuple(RawChannel(n, "km/h", times, speed) for n in ("FL", "FR")), "test"))
    np.testing.assert_array_equal(log.channels[Corner.FL].times, TIMES)
