# Two commands do all the set-up: `make demo` and `make test`. Each builds the virtual environment
# it needs in .venv (ignored by git); a second run reuses it.
PYTHON ?= $(shell command -v python3.11 || command -v python3)
BIN := .venv/bin
STAMP := .venv/installed

# Commands are started a hundred times by the tests: a module is compiled once.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test quick campaign floors bench data tables docs figures clean
.DEFAULT_GOAL := demo

$(STAMP): pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || \
		{ echo "Tenuto needs Python 3.11 or newer; say which with: make PYTHON=/path/to/python"; exit 1; }
	@# Some systems ship Python without ensurepip: then pip itself puts pip into the environment.
	@$(PYTHON) -m venv .venv >/dev/null 2>&1 || { $(PYTHON) -m venv --clear --without-pip .venv && \
		$(PYTHON) -m pip --python $(BIN)/python install --quiet pip; }
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	@touch $@

demo: $(STAMP)
	$(BIN)/tenuto demo --out build/demo

test: $(STAMP)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/pytest $(ARGS)

# Without real time, other processes and ports: what to run at every change.
quick: $(STAMP)
	$(BIN)/pytest -m "not live and not long and not port" --hypothesis-profile quick -n 2 $(ARGS)

# Random tests with examples of their own, and the fault campaigns at length: they print their figures, and keep a drive
# that breaks a promise in soak-failure.json. `make -j2 campaign` uses two cores, and takes half as long.
CAMPAIGN := campaign-drives campaign-tests campaign-boards campaign-decoders campaign-page
.PHONY: $(CAMPAIGN)
campaign: $(CAMPAIGN)

campaign-drives: $(STAMP)
	$(BIN)/tenuto soak --any --runs 20000 --seed $$(date +%s)
	$(BIN)/tenuto soak --runs 2000 --seed $$(date +%s)

campaign-tests: $(STAMP)
	$(BIN)/pytest -m "not live" --hypothesis-profile fresh -n 2

campaign-boards: $(STAMP)
	$(BIN)/python scripts/prove_boards.py 10000

campaign-decoders: $(STAMP)
	$(BIN)/python scripts/torment_decoders.py 1000

campaign-page: $(STAMP)
	$(BIN)/python scripts/torment_page.py 1200

# The tests with the oldest packages that pyproject.toml admits, in an environment of their own.
floors: $(STAMP)
	@mkdir -p build
	$(BIN)/python scripts/floors.py > build/floors.txt
	$(PYTHON) -m venv --clear build/floors
	build/floors/bin/python -m pip install --quiet -r build/floors.txt 'pytest<9.2' pytest-xdist pexpect jsonschema hatchling
	build/floors/bin/python -m pip install --quiet --no-deps --no-build-isolation .
	build/floors/bin/python -m pytest -m "not live" -W ignore::DeprecationWarning -n 2

bench: $(STAMP)
	$(BIN)/python -m benchmarks

data: $(STAMP)
	$(BIN)/python scripts/make_orchard_drive.py
	$(BIN)/python scripts/make_stick_sessions.py
	$(BIN)/python scripts/make_courses.py
	$(BIN)/python scripts/make_odometry.py

tables: $(STAMP)
	$(BIN)/python scripts/make_tables.py

# The docs as a site, in build/site; the packages for it are installed once.
docs: $(STAMP)
	@test -e .venv/docs || $(BIN)/python -m pip install --quiet 'mkdocs>=1.6,<2' 'mkdocs-material>=9.5' 'mkdocstrings[python]>=0.26'
	@touch .venv/docs
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --quiet --strict

figures: $(STAMP)
	$(BIN)/python scripts/make_figures.py

clean:
	rm -rf .venv build .mypy_cache .ruff_cache .pytest_cache .hypothesis
