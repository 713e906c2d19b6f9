# Two commands do everything on a fresh machine with Python 3.11 or newer, git and make:
#   make demo   runs the main job with shipped data      make test   passes the tests
# Each sets up what it needs in .venv, and works offline after that.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/ready

.PHONY: demo test lint screenshots benchmarks campaign fuzz hostile lock mutations validate clean

demo: $(READY)
	rm -rf harbour-office
	$(BIN)/bystander demo harbour-office

# A file's tests run in one worker, one after the other: some share a browser, one takes a limit of the machine to nothing.
test: $(READY)
	$(BIN)/python tools/cpu_seconds.py $(BIN)/python -m pytest -n 2 --dist loadfile

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/mypy

screenshots: $(READY)
	$(BIN)/python tools/screenshots.py

benchmarks: $(READY)
	for program in $(filter-out %/validate.py %/validate_leads.py %/validate_growth.py %/validate_chains.py %/validate_wholes.py %/validate_ceilings.py %/validate_shown.py %/leads_programs.py %/validation_text.py %/noises.py %/common.py,$(wildcard benchmarks/*.py)); do $(BIN)/python $$program || exit 1; done

# Measures how often verdicts are wrong and how much they see, into docs/; the tests run its quick form.
validate: $(READY)
	$(BIN)/python benchmarks/validate.py
	OPENBLAS_NUM_THREADS=1 $(BIN)/python benchmarks/validate_leads.py
	OPENBLAS_NUM_THREADS=1 $(BIN)/python benchmarks/validate_growth.py
	OPENBLAS_NUM_THREADS=1 $(BIN)/python benchmarks/validate_chains.py
	OPENBLAS_NUM_THREADS=1 $(BIN)/python benchmarks/validate_shown.py

# Long forms of tests: SIGKILL at random moments, then what is left, then --resume; launchers killed and stopped, two that
# resume at once, archives removed, disks full and read-only; and the demo whole, live.
KILLS ?= 30
campaign: $(READY)
	BYSTANDER_KILLS=$(KILLS) BYSTANDER_ROUNDS=$(KILLS) BYSTANDER_LONG=1 $(BIN)/python -m pytest tests/test_kills.py \
	  tests/test_resume.py tests/test_campaign.py tests/test_first_hour.py \
	  tests/test_bisect.py::test_an_interrupt_and_kills_lose_no_block \
	  tests/test_commands.py::test_the_live_demo_points_the_same_way

# Twenty thousand mutated files through the functions, five hundred through the program: read or told, never a traceback.
FILES ?= 20000
RUNS ?= 500
SEED ?= 1
fuzz: $(READY)
	$(BIN)/python tests/fuzz.py files=$(FILES) runs=$(RUNS) seed=$(SEED)

# Ninety ill-behaved programs as commands, callables and inspected trials; as root also as an ordinary user.
hostile: $(READY)
	$(BIN)/python tests/hostile.py

# Forty edits at places drawn by chance, one at a time: do the tests of their rooms notice?
ROUND ?= 2
mutations: $(READY)
	$(BIN)/python tools/mutations.py $(ROUND)

# Nothing is installed whose digest is not in requirements.lock, build tools included.
PIP = $(BIN)/python -m pip install --quiet --disable-pip-version-check
$(READY): pyproject.toml requirements.lock
	$(PYTHON) -m venv $(VENV)
	$(PIP) --require-hashes --requirement requirements.lock
	$(PIP) --no-deps --no-build-isolation --no-index --editable .
	touch $@

# Anew, for all Pythons that are supported; what is locked stays where nothing asks for more.
lock:
	$(PYTHON) -m venv $(VENV)-lock
	$(VENV)-lock/bin/python -m pip install --quiet --disable-pip-version-check uv
	grep -o '"hatchling>=[^"]*"' pyproject.toml | tr -d '"' > $(VENV)-lock/build.in
	$(VENV)-lock/bin/uv pip compile pyproject.toml $(VENV)-lock/build.in --extra test --extra lint --universal \
	  --python-version 3.11 --generate-hashes --no-annotate --no-header --quiet --output-file requirements.lock

clean:
	rm -rf $(VENV) $(VENV)-lock harbour-office build dist
