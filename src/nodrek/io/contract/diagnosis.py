"""The published JSON of a diagnosis: `nodrek.diagnosis/1`."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from nodrek.core.model.diagnosis import CauseOdds, Diagnosis, LoomSearch, NextCheck, Policy

SCHEMA = "nodrek.diagnosis/1"


def diagnosis_json(diagnosis: Diagnosis, cautions: Mapping[str, str]) -> dict[str, Any]:
    """One JSON-ready object; costs that no price was given for are ``None``."""
    return {
        "schema": SCHEMA,
        "causes": [_cause(c) for c in diagnosis.causes],
        "next_checks": [_check(n, cautions) for n in diagnosis.next_checks],
        "settled": diagnosis.settled,
        "policies": [_policy(p) for p in diagnosis.policies],
        "repair": [
            {
                "corner": r.corner.value,
                "cause": r.cause.value,
                "option": r.info.option,
                "lasting": r.info.lasting,
                "cautions": [cautions[c] for c in r.info.cautions],
            }
            for r in diagnosis.repairs
        ],
        "looms": [_loom(entry) for entry in diagnosis.looms],
        "warnings": list(diagnosis.warnings),
    }


def _cause(cause: CauseOdds) -> dict[str, Any]:
    return {
        "corner": cause.corner.value,
        "cause": cause.cause.value,
        "probability": round(cause.probability, 6),
        "because": [{"evidence": r.text, "weight_db": round(r.weight_db, 1)} for r in cause.because],
    }


def _check(item: NextCheck, cautions: Mapping[str, str]) -> dict[str, Any]:
    info = item.info
    return {
        "check": info.kind.value,
        "corner": item.corner.value,
        "gain_bits": round(item.gain_bits, 4),
        "minutes": info.minutes,
        "why": why(item),
        "caution": " ".join(cautions[c] for c in info.cautions),
        "tool": info.tool,
        "how": list(info.how),
        "answers": [
            {
                "result": word,
                "means": means,
                "probability": round(p, 4),
                "then": cause.value,
                "then_probability": round(q, 4),
            }
            for (word, p, cause, q), means in zip(item.answers, info.means, strict=True)
        ],
        "undo": info.undo,
    }


def why(item: NextCheck) -> str:
    """What the two likeliest answers would say."""
    likely = sorted(item.answers, key=lambda a: -a[1])[:2]
    parts = [
        f"{word.replace('_', ' ')} ({100.0 * p:.0f} % likely) would leave {cause.value.replace('_', ' ')} "
        f"at {100.0 * q:.0f} %"
        for word, p, cause, q in likely
    ]
    return f"{'; '.join(parts)}."


def _policy(policy: Policy) -> dict[str, Any]:
    return {
        "name": policy.name,
        "minutes": round(policy.minutes, 1),
        "parts": None if policy.parts is None else round(policy.parts, 2),
        "total": None if policy.total is None else round(policy.total, 2),
        "come_back": round(policy.come_back, 3),
    }


def _loom(search: LoomSearch) -> dict[str, Any]:
    probe = search.probe
    return {
        "corner": search.corner.value,
        "segments": [
            {"name": name, "probability": round(p, 4)} for name, p in zip(search.names, search.shares, strict=True)
        ],
        "found": search.names[search.likeliest] if search.found else None,
        "probe": None
        if probe is None
        else {
            "after": probe.after,
            "name": search.names[probe.after],
            "minutes": probe.minutes,
            "pierces": probe.pierces,
            "open_likely": round(probe.open_likely, 4),
        },
        "expected_minutes": round(search.expected_minutes, 1),
        "unsealed": [search.names[i] for i in search.unsealed],
    }
