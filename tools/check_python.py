"""Refuse an interpreter that is too old, in one sentence."""
# ruff: noqa: UP036

import sys

if sys.version_info < (3, 11):
    sys.exit(f"Nodrek needs Python 3.11 or newer; this is {sys.version.split()[0]}. Try: make PYTHON=python3.12 demo")
