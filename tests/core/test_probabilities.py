"""Triggers on a drawn drive, features with a meaning, recipe of the training, evidence in the JSON."""

from __future__ import annotations

import json
import math
from collections import Counter
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from benchmarks import smallest, tenth_world
from tools import train_lost
from tools.gather import FIRST_SEED, RATES, draw
from typer.testing import CliRunner

from conftest import analyze_raw, drive
from nodrek.cli.app import app
from nodrek.core.model import Array, Corner, Fault, Finding
from nodrek.core.model.learnt import SILENT, Boosted, Calibration, Rivals, boosted_from
from nodrek.core.turns.search import inside_stretches
from nodrek.core.verdict.calibrate import FEATURES, calibrated, features
from nodrek.core.verdict.evidence import EVIDENCE, corner_evidence
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.judge import raw_findings, weigh
from nodrek.core.verdict.power import AVERAGING_S, INJECTED_TEETH, could_see, swing_size, tooth_size
from nodrek.core.verdict.sight import SIGHT, sight, sight_row
from nodrek.core.verdict.trigger import LATERAL, TriggerKind, _lateral, _nats, find_trigger
from nodrek.io.contract.schema import AnalysisModel
from nodrek.io.knowledge import shipped_calibration
from nodrek.io.logs.write import write_csv
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.nuisance import Nuisance
from nodrek.simulate.vary import draw_fault, small_fault

AT = {name: k for k, name in enumerate(FEATURES)}


@pytest.fixture(scope="module")
def exam() -> Examination:
    return analyze_raw(drive(411, duration_s=240.0, road="country"))[1]


@pytest.fixture(scope="module")
def damaged() -> Examination:
    return analyze_raw(drive(412, SimulatedFault(Corner.FL, Cause.MISSING_TEETH, count=2)))[1]


def moments(exam: Examination, inside: Array, count: int = 16, seed: int = 1) -> Array:
    """Times of the rear right at which a break happens, drawn from where `inside` is true."""
    at = np.flatnonzero(inside)
    return np.sort(exam.motions[Corner.RR].times[np.random.default_rng(seed).choice(at, count)])


# ---- triggers


@pytest.mark.parametrize(("sign", "way"), [(1.0, "left"), (-1.0, "right")])
def test_breaks_in_bends_to_one_side(exam: Examination, sign: float, way: str) -> None:
    lateral = _lateral(exam, Corner.RR)
    assert lateral is not None
    moving = exam.motions[Corner.RR].expected > 4.0
    trigger = find_trigger(exam, Corner.RR, moments(exam, (sign * lateral > LATERAL) & moving))
    assert (trigger.kind, trigger.way) == (TriggerKind.BENDS, way)


def test_lateral_acceleration_is_that_of_the_other_axle(exam: Examination) -> None:
    """Curvature from the front wheels' own difference, v²·κ, away from stops (closed form)."""
    lateral = _lateral(exam, Corner.RR)
    assert lateral is not None
    assert np.abs(lateral).max() < 8.0
    standing = exam.followed[Corner.RR].vehicle < 0.5
    assert not standing.any() or np.abs(lateral[standing]).max() < 0.5


def test_few_breaks_have_no_trigger(exam: Examination) -> None:
    fast = exam.motions[Corner.RR].expected > np.quantile(exam.motions[Corner.RR].expected, 0.95)
    assert find_trigger(exam, Corner.RR, moments(exam, fast, 3)).kind is TriggerKind.NONE


def test_breaks_of_a_crawling_drive_have_no_trigger(exam: Examination) -> None:
    """Above 3 m/s there is nothing to compare them with: nothing fails, and none is told."""
    motion = exam.motions[Corner.RR]
    slow = replace(motion, expected=np.minimum(motion.expected, 2.9))
    crawling = replace(exam, motions={**exam.motions, Corner.RR: slow})
    assert find_trigger(crawling, Corner.RR, moments(exam, motion.expected > 1.0)).kind is TriggerKind.NONE


@pytest.mark.parametrize(("share", "usual", "count"), [(0.9, 0.2, 10), (1.0, 0.5, 7), (0.6, 0.55, 40)])
def test_the_weight_is_that_of_two_binomials(share: float, usual: float, count: int) -> None:
    from scipy.stats import binom

    hits = round(share * count)
    expected = binom.logpmf(hits, count, hits / count) - binom.logpmf(hits, count, usual)
    assert _nats(hits / count, usual, count) == pytest.approx(expected)
    assert _nats(usual, share, count) == 0.0


# ---- features and weights


def test_features_say_what_their_names_say(damaged: Examination) -> None:
    findings = raw_findings(damaged)
    strongest = max(findings, key=lambda f: f.confidence)
    assert (strongest.fault, strongest.corners) == (Fault.RING_DAMAGE, (Corner.FL,))
    row = features(strongest, findings, damaged)
    assert row[AT["one"]] == 1.0
    assert row[AT["raw"]] == pytest.approx(
        math.log(min(0.999, strongest.confidence) / (1 - min(0.999, strongest.confidence)))
    )
    assert row[AT["slow"]] == 0.0
    known = {c: dict(zip(EVIDENCE, corner_evidence(damaged, c, findings), strict=True)) for c in Corner}
    assert max(Corner, key=lambda c: known[c]["lock"]) is Corner.FL
    assert known[Corner.FL]["raw_ring_damage"] == pytest.approx(row[AT["raw"]], abs=1e-5)
    assert row[AT["rival_over"]] == 0.0
    alone = features(strongest, [strongest], damaged)
    assert alone[AT["loud_elsewhere"]] <= row[AT["loud_elsewhere"]]


def test_slow_logs_are_told_from_fast_ones() -> None:
    rows = {}
    for rate in (50.0, 10.0, 4.0):
        exam = analyze_raw(drive(413, rates_hz=(rate,), duration_s=100.0))[1]
        rows[rate] = features(Finding(Fault.FROZEN, (Corner.FL,), 0.5, "", {"seconds": 9.0}), [], exam)
    slow = [rows[rate][AT["slow"]] for rate in (50.0, 10.0, 4.0)]
    assert slow == pytest.approx([0.0, math.log10(5.0), math.log10(12.5)], abs=0.05)
    assert all(r[AT["proof"]] == pytest.approx(1.0) for r in rows.values())


def test_a_weight_moves_the_probability_its_way(damaged: Examination) -> None:
    findings = raw_findings(damaged)
    plain = {Fault.RING_DAMAGE: {"raw": 1.0}}
    same = calibrated(findings, damaged, Calibration(plain))
    for before, after in zip(findings, same, strict=True):
        if 0.01 < before.confidence < 0.99:
            assert after.confidence == pytest.approx(before.confidence, abs=1e-6)
    bold = calibrated(findings, damaged, Calibration({Fault.RING_DAMAGE: {"raw": 1.0, "one": 2.0}}))
    assert all(b.confidence >= s.confidence for b, s in zip(bold, same, strict=True))
    unknown = calibrated(findings, damaged, Calibration({Fault.RING_DAMAGE: {"raw": 1.0, "moon": 9.0}}))
    assert [f.confidence for f in unknown] == [f.confidence for f in same]


def test_the_recipe_varies_what_matters() -> None:
    """Every fault, nuisance and rate, healthy drives too; never the benchmark's seeds."""
    drawn = [draw(FIRST_SEED + k) for k in range(600)]
    causes = Counter(f.cause for faults, _ in drawn for f in faults)
    assert set(causes) == set(Cause)
    assert max(causes.values()) < 3 * min(causes.values())
    healthy = sum(not faults for faults, _ in drawn) / len(drawn)
    assert 0.2 < healthy < 0.4
    assert {s["rates_hz"][0] for _, s in drawn} == set(RATES)
    assert {s.get("nuisance", Nuisance.NONE) for _, s in drawn} == set(Nuisance)
    durations = [s["duration_s"] for _, s in drawn]
    assert min(durations) < 60.0
    assert max(durations) > 240.0
    benchmark_seeds = range(150_000, 160_000)
    assert FIRST_SEED not in benchmark_seeds
    assert benchmark_seeds.start >= train_lost.FIRST_SEED + train_lost.DRIVES


def test_what_teaches_reaches_down_to_the_smallest_faults_worth_finding() -> None:
    """Sizes of the contract: a gap that reads above 8 km/h, a swing of 0.2 %, a break a minute, a tyre half a per cent
    off; the same for the simulator and for the worlds that teach."""
    made = {c: small_fault(draw_fault(c, 3), 1.0) for c in Cause}
    assert made[Cause.WIDE_GAP].size == pytest.approx(smallest.WAKE) == pytest.approx(8.0 / 3.6)
    assert made[Cause.ECCENTRIC_RING].size == smallest.SWING == 0.002
    assert (made[Cause.BROKEN_LEAD].per_minute, made[Cause.BROKEN_LEAD].length_s) == (1.0, smallest.BREAK_S)
    assert abs(made[Cause.WHEEL_SIZE].size) == smallest.RATIO == 0.005
    assert made[Cause.MISSING_TEETH].count == 1
    taught = [f.size * 3.6 for k in range(600) for f in draw(FIRST_SEED + k)[0] if f.cause is Cause.WIDE_GAP]
    assert 8.0 <= min(taught) < 12.0
    assert max(taught) > 20.0


# ---- what goes out


def document(path: Path) -> dict[str, object]:
    done = CliRunner().invoke(app, ["analyze", str(path), "--json"])
    assert done.exit_code == 0, done.output
    told: dict[str, object] = json.loads(done.output)
    AnalysisModel.model_validate(told)
    return told


def test_crossed_leads_name_both_axles_in_the_json(tmp_path: Path) -> None:
    fault = replace(draw_fault(Cause.CROSSED, 421), corner=Corner.FL)
    write_csv(drive(421, fault, duration_s=180.0), tmp_path / "crossed.csv")
    told = document(tmp_path / "crossed.csv")
    finding = told["findings"][0]  # type: ignore[index]
    assert finding["fault"] == "crossed"
    either = {tuple(finding["corners"]), tuple(finding["evidence"]["or"])}
    assert either == {("FL", "FR"), ("RL", "RR")}


def test_breaks_tell_their_trigger_in_the_json(tmp_path: Path) -> None:
    fault = draw_fault(Cause.BROKEN_LEAD, 422)
    write_csv(drive(422, fault, duration_s=180.0), tmp_path / "breaks.csv")
    finding = document(tmp_path / "breaks.csv")["findings"][0]  # type: ignore[index]
    assert finding["fault"] == "intermittent"
    assert finding["evidence"]["trigger"] in {"bumps", "bends", "speed", "none"}


def test_a_scene_on_stands_in_the_json_and_in_words(tmp_path: Path) -> None:
    times = np.arange(0.0, 60.0, 0.1)
    speeds = [9.0 * np.sin(np.pi * np.clip((times - 3 - 14 * k) / 9.0, 0, 1)) for k in range(4)]
    lines = ["time," + ",".join(f"{c.value} km/h" for c in Corner)]
    lines += [f"{t:.1f}," + ",".join(f"{v[i]:.2f}" for v in speeds) for i, t in enumerate(times)]
    path = tmp_path / "stands.csv"
    path.write_text("\n".join(lines))
    told = document(path)
    assert told["scene"] == "spin"
    assert {c: v["order"] for c, v in told["corners"].items()} == {"FL": 1, "FR": 2, "RL": 3, "RR": 4}  # type: ignore[attr-defined]
    words = CliRunner().invoke(app, ["analyze", str(path)]).output
    assert "Wheels were turned one after another" in words
    assert "4. RR  comes alive, up to 9.0 km/h" in words


def test_trees_are_asked_as_they_are_written() -> None:
    """A limit itself goes with what is below it; leaves add up on the logit; unknown names count as zero."""
    leaf = {"if": [""], "most": [0.5], "else": [0]}
    tree = {"if": ["lock", "", "late", "", ""], "most": [1.5, -1.0, 0.0, 0.5, 2.0], "else": [2, 0, 4, 0, 0]}
    grown = boosted_from({"base": 0.25, "trees": [leaf, tree]})

    def logit(**row: float) -> float:
        p = grown.probability(row)
        return math.log(p / (1.0 - p))

    assert logit(lock=1.5, late=9.0) == pytest.approx(-0.25)
    assert logit(lock=1.6, late=0.0) == pytest.approx(1.25)
    assert logit(lock=1.6, late=0.1) == pytest.approx(2.75)
    assert logit() == pytest.approx(-0.25)
    for wrong in ({**tree, "else": [0] * 5}, {**tree, "else": [5, 0, 4, 0, 0]}, {**tree, "most": [1.5]}):
        with pytest.raises(ValueError, match="tree"):
            boosted_from({"base": 0.0, "trees": [wrong, leaf]})


def test_rivals_share_one_certainty() -> None:
    """Softmax: logits differ by what the sums differ, whatever is added to all of them; one certainty is shared."""
    row = {"lock": 2.0}
    tree = {"if": ["lock", "", ""], "most": [1.0, 0.0, 1.5], "else": [2, 0, 0]}
    sums = {"sound": boosted_from({"base": 0.5, "trees": []}), "air_gap": boosted_from({"base": 0.0, "trees": [tree]})}
    said = Rivals(sums).probabilities(row)
    assert sum(said.values()) == pytest.approx(1.0)
    assert math.log(said["air_gap"] / said["sound"]) == pytest.approx(1.0)
    raised = Rivals({name: Boosted(b.base + 700.0, b.trees) for name, b in sums.items()})
    assert raised.probabilities(row) == pytest.approx(said)
    everything = Calibration({}, {Fault.TYRE_SIZE: boosted_from({"base": 0.0, "trees": []})}, Rivals(sums))
    assert everything.probabilities(row) == {Fault.TYRE_SIZE: 0.5, Fault.AIR_GAP: pytest.approx(said["air_gap"])}
    assert everything.grown == {Fault.TYRE_SIZE, Fault.AIR_GAP}
    # a rival that hardly makes what is seen moves the logit by ln of how much less likely it is
    gap = everything.probabilities(row, unlike={"sound": 0.05})[Fault.AIR_GAP]
    assert math.log(gap / (1.0 - gap)) == pytest.approx(1.0 + math.log(20.0))
    # what nobody else calls silent leaves what is its to the others, in the same proportion; where it is sure, it stays
    silence = Rivals({**sums, SILENT: boosted_from({"base": 3.0, "trees": []})})
    quiet = Calibration({}, {}, silence)
    assert quiet.probabilities(row, 0.0)[Fault.AIR_GAP] == pytest.approx(said["air_gap"])
    assert quiet.probabilities(row, 0.1)[Fault.AIR_GAP] == pytest.approx(0.9 * said["air_gap"])
    assert quiet.probabilities(row, 0.99) == quiet.probabilities(row)


def test_long_silences_are_no_dirt() -> None:
    """A filter drags each break out, and the trees take so many dips for a dirty encoder; but dirt reads something."""
    _, exam = analyze_raw(tenth_world.draw(938_000, "worn through", 10.0).log)
    likeliest = weigh(exam, shipped_calibration())[0]
    assert likeliest.fault is Fault.INTERMITTENT
    assert likeliest.confidence >= 0.5


def test_shipped_trees_know_the_damaged_corner(damaged: Examination) -> None:
    shipped = shipped_calibration()
    forests = [*shipped.trees.values(), *shipped.rivals.sums.values()]
    asked = {name for grown in forests for name in grown.trees.names}
    assert {"lock", "rate", "row_turn"} < asked <= {"", *EVIDENCE}
    findings = raw_findings(damaged)
    rows = {c: corner_evidence(damaged, c, findings) for c in Corner}
    assert all(np.isfinite(row).all() and row.shape == (len(EVIDENCE),) for row in rows.values())
    said = {
        c: shipped.probabilities(dict(zip(EVIDENCE, row.tolist(), strict=True)))[Fault.RING_DAMAGE]
        for c, row in rows.items()
    }
    bad = max(said, key=lambda c: said[c])
    assert said[bad] > 0.8
    assert max(p for c, p in said.items() if c is not bad) < 0.2


def test_a_lost_tooth_and_a_swing_add_up_to_what_they_show_when_put_in(exam: Examination) -> None:
    """By counting: values whose window holds the tooth are low by its share of it; a swing is a sine of the turn."""
    motion, ring = exam.followed[Corner.RR], exam.rings[Corner.RR]
    inside = inside_stretches(ring.stretches, motion.times.size) & (motion.expected > 2.5)
    turns, noise = motion.path[inside] / 1.95, motion.noise[inside]
    window = motion.expected[inside] * AVERAGING_S / 1.95
    tooth = [
        np.where((turns - place) % 1.0 < window, 1.0 / (INJECTED_TEETH * window), 0.0) for place in (0.1, 0.4, 0.7)
    ]
    counted = np.mean([np.sum((dip / noise) ** 2) for dip in tooth])
    assert tooth_size(exam, Corner.RR) == pytest.approx(np.sqrt(counted), rel=0.08)
    sine = smallest.SWING * np.sin(2.0 * np.pi * turns)
    assert swing_size(exam, Corner.RR) == pytest.approx(np.sqrt(np.sum((sine / noise) ** 2)), rel=0.05)


def test_sight_keeps_what_was_not_learnt_and_follows_what_was(damaged: Examination) -> None:
    """The plain logistic of the calculated probability is that probability; never seen stays unseen."""
    calculated = could_see(damaged, Corner.RR)
    assert sight(damaged, Corner.RR, calculated, {}) == calculated
    plain = sight(damaged, Corner.RR, calculated, {k: {"calculated": 1.0} for k in calculated})
    for kind, p in calculated.items():
        assert plain[kind] == pytest.approx(min(max(p, 1 / (1 + math.exp(6))), 1 / (1 + math.exp(-6))), abs=1e-6)
    hopeless = {Fault.RING_DAMAGE: {"one": -40.0}}
    assert sight(damaged, Corner.RR, calculated, hopeless)[Fault.RING_DAMAGE] < 1e-6
    assert sight(damaged, Corner.RR, {Fault.AIR_GAP: 0.0}, {Fault.AIR_GAP: {"one": 9.0}}) == {Fault.AIR_GAP: 0.0}
    row = sight_row(damaged, Corner.RR, 0.5)
    assert row.shape == (len(SIGHT),)
    assert set(shipped_calibration().sight) == set(calculated)
    assert all(set(w) <= set(SIGHT) for w in shipped_calibration().sight.values())
