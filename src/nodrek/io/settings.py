"""What the program remembers between runs: recent logs, look, units."""

from __future__ import annotations

import json
import os
from dataclasses import asdict, dataclass, replace
from pathlib import Path

MOST_RECENT = 8


@dataclass(frozen=True)
class Settings:
    recent: tuple[str, ...] = ()
    look: str = "bay"
    speed_unit: str = "km/h"


def settings_file() -> Path:
    """Where settings live for this user."""
    from platformdirs import user_config_path

    return user_config_path("nodrek", appauthor=False) / "settings.json"


def load_settings(path: Path) -> Settings:
    """The settings; a missing or damaged file gives the usual ones."""
    try:
        data = json.loads(path.read_text(encoding="utf-8")[:65536])
    except (OSError, ValueError):
        return Settings()
    if not isinstance(data, dict):
        return Settings()
    recent = data.get("recent")
    kept = tuple(str(p) for p in recent[:MOST_RECENT]) if isinstance(recent, list) else ()
    look = data.get("look") if data.get("look") in ("bay", "pit") else "bay"
    unit = data.get("speed_unit") if data.get("speed_unit") in ("km/h", "mph") else "km/h"
    return Settings(kept, str(look), str(unit))


def save_settings(path: Path, settings: Settings) -> None:
    """Write whole or not at all; a full disk or a locked folder costs only the memory of them."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        unfinished = path.with_suffix(".part")
        unfinished.write_text(json.dumps(asdict(settings), indent=1), encoding="utf-8")
        os.replace(unfinished, path)
    except OSError:
        return


def with_recent(settings: Settings, path: Path) -> Settings:
    """`path` first in the list of recent logs."""
    name = str(path)
    return replace(settings, recent=(name, *(p for p in settings.recent if p != name))[:MOST_RECENT])
