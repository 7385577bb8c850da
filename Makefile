# Each target sets up what it needs: a virtual environment of its own from the hash-pinned
# lock, and the system libraries that Qt needs where it may install them.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
STAMP := $(VENV)/.ready
LOCK_OPTIONS := --universal --python-version 3.11 --generate-hashes --no-emit-index-url --no-annotate --no-header --quiet

.PHONY: demo app test lint bench train lock clean screenshots

demo: $(STAMP)
	$(BIN)/nodrek --demo

app: $(STAMP)
	$(BIN)/nodrek

test: $(STAMP)
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest

lint: $(STAMP)
	$(BIN)/ruff check src tests benchmarks tools
	$(BIN)/ruff format --check src tests benchmarks tools
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo

bench: $(VENV)/.ready-to-train
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m benchmarks.speed
	$(BIN)/python -m benchmarks.reading
	$(BIN)/python -m benchmarks.accuracy
	$(BIN)/python -m benchmarks.unseen
	$(BIN)/python -m benchmarks.elsewhere
	$(BIN)/python -m benchmarks.plain_detector
	$(BIN)/python -m benchmarks.two_faults
	$(BIN)/python -m benchmarks.sight
	$(BIN)/python -m benchmarks.diagnosis

# New probabilities from simulated drives; some four hours on two cores. Stopped, it goes on where it was
# (build/training).
train: $(VENV)/.ready-to-train
	$(BIN)/python -m tools.train
	$(BIN)/python -m tools.train_lost
	$(BIN)/python -m tools.train_sight

$(VENV)/.ready-to-train: $(STAMP) requirements-train.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements-train.lock
	touch $@

screenshots: $(STAMP)
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m tools.screenshots docs/screenshots

# New pins from pyproject.toml; the only target that needs uv.
lock: $(STAMP)
	$(BIN)/python -m pip install --quiet uv
	$(BIN)/uv pip compile pyproject.toml --group dev $(LOCK_OPTIONS) -o requirements.lock
	$(BIN)/uv pip compile pyproject.toml --group dev --group train -c requirements.lock $(LOCK_OPTIONS) \
		-o requirements-train.lock

$(STAMP): requirements.lock pyproject.toml tools/system_libraries.sh
	bash tools/system_libraries.sh
	$(PYTHON) tools/check_python.py
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	$(BIN)/python -m compileall -q src
	touch $(STAMP)

clean:
	rm -rf $(VENV) .pytest_cache .mypy_cache .ruff_cache .hypothesis .import_linter_cache
