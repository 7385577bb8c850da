"""What training gathers: nothing twice, nothing of another state of the program, nothing half."""

from __future__ import annotations

from pathlib import Path

import pytest
from tools import gather as gathering
from tools.gather import Record, gather, seed_of, state_of_program


def told(seed: int) -> list[Record]:
    return [Record(seed, "", [0.5, float(seed)], False, ("ring_damage",))]


def told_once(seed: int) -> list[Record]:
    """As if the first part were never to be drawn again."""
    if seed in map(seed_of, range(4)):
        raise AssertionError(seed)
    return told(seed)


def test_gathering_goes_on_where_it_was_stopped(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(gathering, "PART", 4)
    monkeypatch.setattr(gathering, "records_anywhere", told)
    first = gather(4, tmp_path)
    assert [r.seed for r in first] == [seed_of(number) for number in range(4)]

    monkeypatch.setattr(gathering, "records_anywhere", told_once)
    (tmp_path / state_of_program() / "000004.jsonl.half").write_bytes(b"stopped here")
    more = gather(6, tmp_path)
    assert more[:4] == first
    assert [r.seed for r in more[4:]] == [seed_of(number) for number in (4, 5)]
    assert len(gather(6, tmp_path, without="eleventh")) < 6

    monkeypatch.setattr(gathering, "state_of_program", lambda: "another")
    with pytest.raises(AssertionError):
        gather(4, tmp_path)
