# Many processes start, and each would compile all modules anew.
unexport PYTHONDONTWRITEBYTECODE

# Two commands do all: `make demo` serves it with demo data, `make test` checks it.
VENV := .venv
BIN := $(VENV)/bin
PYTHON ?= python3

.PHONY: demo serve test long suite warm openvdb check bench references soak fuzz faults chromium clean

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

# The reader of volumes that the tests compare with: the format's own library.
openvdb:
	@/usr/bin/python3 -c "import pyopenvdb" 2>/dev/null || { \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then \
	    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq \
	      --no-install-recommends python3-openvdb python3-numpy >/dev/null || \
	    echo "python3-openvdb could not be installed: volumes are not read back"; \
	  else echo "python3-openvdb is missing: volumes are not read back"; fi; }

check: $(VENV)/test-ready
	$(BIN)/ruff check dovrek tests tools
	$(BIN)/mypy
	$(BIN)/lint-imports

# The checks of the text beside the tests: each keeps one core busy for a good part.
test: $(VENV)/test-ready chromium openvdb
	$(MAKE) --no-print-directory -j 2 check suite

# Kernels are compiled once, so that the files that then run side by side find them.
warm: $(VENV)/ready
	@echo '{"dovrek": 1, "layers": [{}, {"genus": "cirrus"}, {"genus": "altocumulus"}]}' | \
	  $(BIN)/dovrek render - -o .warm.png --size 64x36 && rm -f .warm.png

suite: $(VENV)/test-ready chromium openvdb warm
	$(BIN)/pytest -n 2 --dist loadfile --no-loadscope-reorder

# What takes minutes each: path-traced pictures, purity of every genus, forty windows.
long: $(VENV)/test-ready chromium openvdb warm
	$(BIN)/pytest -n 2 --dist loadfile --no-loadscope-reorder -m long

bench: $(VENV)/test-ready chromium
	$(BIN)/python -m tools.bench $(parts)

# Many hands at once, odd input, and power and disk taken away (docs/trust.md): the long forms.
clients ?= 12
minutes ?= 10
cases ?= 100000
kills ?= 200

soak: $(VENV)/test-ready
	$(BIN)/python -m tools.soak $(clients) $(minutes)

fuzz: $(VENV)/test-ready
	$(BIN)/python -m tools.fuzz $(cases)

faults: $(VENV)/test-ready
	$(BIN)/python -m tools.faults $(kills)

# The path-traced pictures the tests compare with (about half an hour).
references: $(VENV)/test-ready
	$(BIN)/python -m tools.accuracy

clean:
	rm -rf $(VENV) .pytest_cache .mypy_cache .ruff_cache build *.egg-info
