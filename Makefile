# Two commands do all: `make demo` serves it with demo data, `make test` checks it.
VENV := .venv
BIN := $(VENV)/bin
PYTHON ?= python3

.PHONY: demo serve test suite check bench references chromium clean

$(VENV)/ready: requirements.lock pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements.lock
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps -e .
	touch $@

$(VENV)/test-ready: $(VENV)/ready requirements-test.lock
	$(BIN)/pip install --quiet --disable-pip-version-check -r requirements-test.lock
	touch $@

demo: $(VENV)/ready
	exec $(BIN)/dovrek demo

serve: $(VENV)/ready
	exec $(BIN)/dovrek serve

# The browser of the interface tests: Debian's, installed when absent and possible.
chromium:
	@command -v chromium >/dev/null || { \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then \
	    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq \
	      --no-install-recommends chromium fonts-liberation >/dev/null; \
	  else echo "chromium is missing; install it for the interface tests"; exit 1; fi; }

check: $(VENV)/test-ready
	$(BIN)/ruff check dovrek tests tools
	$(BIN)/mypy
	$(BIN)/lint-imports

# The checks of the text beside the tests: each keeps one core busy for a good part.
test: $(VENV)/test-ready chromium
	$(MAKE) --no-print-directory -j 2 check suite

suite: $(VENV)/test-ready chromium
	$(BIN)/pytest

bench: $(VENV)/test-ready chromium
	$(BIN)/python -m tools.bench

# The path-traced pictures the tests compare with (about half an hour).
references: $(VENV)/test-ready
	$(BIN)/python -m tools.accuracy

clean:
	rm -rf $(VENV) .pytest_cache .mypy_cache .ruff_cache build *.egg-info
