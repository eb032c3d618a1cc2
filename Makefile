# Set-up on a fresh machine that has Python (3.11 or newer) and make.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test check bench clean

$(VENV)/.demo: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable .
	touch $@

$(VENV)/.dev: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable ".[dev]"
	touch $@ $(VENV)/.demo

# The demo in demo/: made the first time, served each time.
demo: $(VENV)/.demo
	@if [ -e demo/survey.json ]; then $(BIN)/lumet serve --project demo; \
	else $(BIN)/lumet demo demo; fi

# All the tests. LUMET_REQUIRED=browser,postgresql,mariadb lets none be left out.
test: $(VENV)/.dev
	$(BIN)/python -m tests

# What else must hold: style, types, layers, and the share of tests in the code.
check: $(VENV)/.dev
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python -m tests.share

bench: $(VENV)/.dev
	$(BIN)/python -m bench

clean:
	rm -rf $(VENV) demo
