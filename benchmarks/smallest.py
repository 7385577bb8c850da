"""The smallest faults that are worth finding, by which a clean log is said to be worth something."""

SWING = 0.002
"""Relative, once a turn."""
RATIO = 0.005
"""Relative, of a tyre."""
WAKE = 8.0 / 3.6
"""m/s from which on a corner with too wide a gap reads."""
BREAK_S = 0.1
"""Length of a break, one a minute."""
