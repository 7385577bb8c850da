"""Case files: what is written comes back, what is wrong gets its place and one sentence."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nodrek.core.model import Corner
from nodrek.core.model.case import Case, Check, CheckKind, CodeKind, Lamp, Symptom, WorkPart
from nodrek.errors import BadRequest, NodrekError, UnreadableFile
from nodrek.io.contract.case import case_json, parse_case, read_case, write_case
from nodrek.io.contract.case_schema import RESULTS
from nodrek.io.keeper import Keeper
from nodrek.io.knowledge import trade_knowledge

SCHEMA = {"schema": "nodrek.case/1"}
corners = st.sampled_from([c.value for c in Corner])
numbers = st.floats(0.0, 1e6, allow_nan=False)
unknown = st.dictionaries(st.sampled_from(["x_colour", "x_later"]), st.integers() | st.text(max_size=5), max_size=2)


@st.composite
def checks(draw: st.DrawFn) -> dict[str, object]:
    kind = draw(st.sampled_from(list(CheckKind)))
    out: dict[str, object] = {"check": kind.value, "corner": draw(corners), **draw(unknown)}
    if draw(st.booleans()):
        out["result"] = draw(st.sampled_from(RESULTS[kind]))
    if draw(st.booleans()):
        out["value"] = draw(numbers)
    return out


@st.composite
def documents(draw: st.DrawFn) -> dict[str, object]:
    """Cases of any shape, with keys of a later version in between."""
    parts = {
        "vehicle": st.fixed_dictionaries(
            {}, optional={"label": st.text(min_size=1, max_size=20), "age_years": st.floats(0, 99),
                          "teeth": st.just(48), "sensor": st.sampled_from(["passive", "active"]),
                          "road_salt": st.booleans()}),
        "complaint": st.fixed_dictionaries(
            {}, optional={"lamps": st.lists(st.sampled_from(list(Lamp)).map(str), unique=True, min_size=1),
                          "symptoms": st.lists(st.sampled_from(list(Symptom)).map(str), unique=True, min_size=1),
                          "recent_work": st.lists(st.fixed_dictionaries({
                              "corner": corners, "part": st.sampled_from(list(WorkPart)).map(str),
                              "quality": st.just("used")}), min_size=1)}),
        "codes": st.lists(st.fixed_dictionaries(
            {"kind": st.sampled_from(list(CodeKind)).map(str)},
            optional={"corner": corners, "odometer_km": numbers}), min_size=1),
        "checks": st.lists(checks(), min_size=1, max_size=4),
        "prices": st.dictionaries(st.sampled_from(["hour", "sensor", "x_thing"]), numbers, min_size=1),
    }  # fmt: skip
    chosen = draw(st.sets(st.sampled_from(sorted(parts))))
    return {**SCHEMA, **draw(unknown), **{k: draw(parts[k]) for k in sorted(chosen)}}


def without_empty(value: object) -> object:
    if isinstance(value, dict):
        kept = {k: without_empty(v) for k, v in value.items()}
        return {k: v for k, v in kept.items() if v not in (None, {}, [])}
    return [without_empty(v) for v in value] if isinstance(value, list) else value


@settings(max_examples=120, deadline=None)
@given(documents())
def test_what_is_read_is_written_again(document: dict[str, object]) -> None:
    """Known and unknown keys survive a load and a save; absent stays absent."""
    case = parse_case(json.dumps(document))
    again = json.loads(json.dumps(case_json(case)))
    assert without_empty(again) == without_empty(document)
    assert parse_case(json.dumps(again)) == case


def test_unknown_keys_survive_everywhere() -> None:
    later = {"x_later": [1, {"a": "b"}]}
    document = {
        **SCHEMA, **later,
        "vehicle": {"label": "van", **later},
        "complaint": {"lamps": ["abs"], **later}, "access": {"scope": True, **later},
        "codes": [{"kind": "circuit", **later}], "logs": [{"path": "a.csv", "role": "before", **later}],
        "findings": [{"fault": "frozen", "corners": ["FL"], "confidence": 0.5, "evidence": {"s": 3}, **later}],
        "checks": [{"check": "wiggle", "corner": "FL", "result": "steady", **later}],
        "looms": [{"corner": "FL", "segments": [{"name": "clip", "kind": "clip", **later}],
                   "readings": [{"after": 0, "ohm": 1.0, "pierced": False, "sealed": False, **later}], **later}],
    }  # fmt: skip
    assert case_json(parse_case(json.dumps(document))) == document


def test_results_are_those_of_the_trade_table() -> None:
    """Words that a case may say are the words that the engine has odds for."""
    for kind, info in trade_knowledge().checks.items():
        assert set(RESULTS[kind]) == ({"open"} if info.unit else set(info.outcomes))


def nested(depth: int) -> str:
    return "[" * depth + "]" * depth


@pytest.mark.parametrize(("text", "place"), [
    ('{"schema": "nodrek.case/9"}', "schema"),
    ("[]", "case"),
    ("{", "case"),
    ("", "empty"),
    (nested(50_000), "case"),
    ('{"schema": "nodrek.case/1", "checks": [{"check": "wiggle", "corner": "FL", "result": "steady"}, '
     '{"check": "wiggle", "result": "purple"}]}', "checks[1].result"),
    ('{"schema": "nodrek.case/1", "checks": [{"check": "kick_it"}]}', "checks[0].check"),
    ('{"schema": "nodrek.case/1", "checks": {"check": "wiggle"}}', "checks"),
    ('{"schema": "nodrek.case/1", "codes": [{"corner": "LF"}]}', "codes[0].corner"),
    ('{"schema": "nodrek.case/1", "vehicle": {"age_years": "nine"}}', "vehicle.age_years"),
    ('{"schema": "nodrek.case/1", "vehicle": {"age_years": -1}}', "vehicle.age_years"),
    ('{"schema": "nodrek.case/1", "findings": [{"fault": "ring_damage", "corners": [], "confidence": 0.9}]}',
     "findings[0].corners"),
    ('{"schema": "nodrek.case/1", "findings": [{"fault": "ring_damage", "corners": ["RL"], "confidence": 7}]}',
     "findings[0].confidence"),
    ('{"schema": "nodrek.case/1", "vehicle": {"layout": "trailer_2"}, "checks": [{"check": "wiggle", "corner": "FL"}]}',
     "checks[0].corner"),
    ('{"schema": "nodrek.case/1", "access": {"scope": "yes"}}', "access.scope"),
    ('{"schema": "nodrek.case/1", "prices": {"hour": NaN}}', "prices.hour"),
])  # fmt: skip
def test_bad_cases_get_the_place(tmp_path: Path, text: str, place: str) -> None:
    file = tmp_path / "bad.nodrek.json"
    file.write_text(text, encoding="utf-8")
    with pytest.raises((BadRequest, UnreadableFile)) as refused:
        read_case(file)
    assert place in str(refused.value)
    assert "\n" not in str(refused.value)
    assert len(str(refused.value)) < 700


def test_a_huge_case_is_refused_unread(tmp_path: Path) -> None:
    file = tmp_path / "huge.nodrek.json"
    file.write_bytes(b" " * (5 * 1024 * 1024))
    with pytest.raises(UnreadableFile, match="too large"):
        read_case(file)


def test_the_keeper_writes_the_newest_and_brings_it_back(tmp_path: Path) -> None:
    keeper = Keeper(tmp_path / "kept" / "open-case.nodrek.json")
    assert keeper.bring_back() is None
    for count in range(1, 30):
        keeper.keep(Case(checks=tuple(Check(CheckKind.WIGGLE, Corner.FL, "steady") for _ in range(count))))
    keeper.flush()
    brought = keeper.bring_back()
    assert brought is not None
    assert len(brought.checks) == 29
    assert [p.name for p in keeper.path.parent.iterdir()] == [keeper.path.name]


def test_a_damaged_kept_case_is_put_aside(tmp_path: Path) -> None:
    keeper = Keeper(tmp_path / "open-case.nodrek.json")
    write_case(Case(lamps=(Lamp.ABS,)), keeper.path)
    keeper.path.write_text(keeper.path.read_text()[:40])
    with pytest.raises(NodrekError, match="damaged"):
        keeper.bring_back()
    assert keeper.bring_back() is None
    assert (tmp_path / "open-case.nodrek.damaged.json").exists()
