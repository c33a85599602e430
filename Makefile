# `make demo` and `make test` do all the set-up on a fresh machine; see README.md.
PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready
GUIDE := src/wyntaxis/assets/guide/search.json

.PHONY: demo test test-all test-fast coverage lint format screenshots docs shell-files wheel deb sbom benchmark mutants real soak lock clean

demo: $(READY) $(GUIDE)
	@$(PYTHON) tools/check_system.py --screen --install
	@$(BIN)/wyntaxis --demo $(ARGS)

test: $(READY) $(GUIDE)
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest --numprocesses 2 --dist worksteal $(ARGS)

# All cases of every law, where `make test` tries some of each.
test-all: $(READY) $(GUIDE)
	@HYPOTHESIS_PROFILE=thorough QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest --numprocesses 2 --dist worksteal --thorough $(ARGS)

# The core without its slow tests, and fewer cases for each law, while one works on it. One test: make test ARGS="tests/core/optics/test_optics.py -k airy"
test-fast: $(READY) $(GUIDE)
	@HYPOTHESIS_PROFILE=fast $(BIN)/python -m pytest --numprocesses 2 --dist worksteal -m "not slow" tests/core $(ARGS)

# All tests, with which lines they reach; fails under the share that pyproject.toml states.
coverage: $(READY)
	@$(MAKE) --no-print-directory test-all ARGS="--cov=wyntaxis --cov-report=term $(ARGS)"

lint: $(READY)
	@$(BIN)/ruff check .
	@$(BIN)/ruff format --check .
	@$(BIN)/mypy
	@$(BIN)/lint-imports
	@$(BIN)/python tools/check_words.py

format: $(READY)
	@$(BIN)/ruff check --fix .
	@$(BIN)/ruff format .

screenshots: $(READY)
	@$(BIN)/wyntaxis --demo --screenshot docs/screenshots

benchmark: $(READY)
	@for file in benchmarks/bench_*.py; do QT_QPA_PLATFORM=$${QT_QPA_PLATFORM:-offscreen} $(BIN)/python $$file || exit 1; done

# Changes one formula or comparison at a time; the tests must notice every one (some twenty minutes).
mutants: $(READY)
	@$(BIN)/python tools/mutants.py

# Every reader on frames that nature made, fetched from the package registries (some 50 MB, once).
real: $(READY)
	@$(BIN)/python tools/real_files.py

# Hostile inputs, kills and monkeys for TIME seconds; failing inputs are left in soak-failures.
TIME ?= 1200
soak: $(READY)
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m tests.soak $(TIME) $(ARGS)

# The guide, offline: F1 in the window shows it, a browser opens src/wyntaxis/assets/guide/index.html.
docs: $(GUIDE)

$(GUIDE): $(READY) $(shell find docs/guide -type f -not -path '*/__pycache__/*') $(wildcard docs/screenshots/*.png) docs/rig-file.md
	@$(BIN)/python -m sphinx -q -W -b html -d build/doctrees docs/guide src/wyntaxis/assets/guide
	@touch $@

# The man page and the completions, as the parsers tell them.
shell-files: $(READY)
	@$(BIN)/wyntaxis manual > packaging/man/wyntaxis.1
	@for shell in bash zsh fish; do $(BIN)/wyntaxis completion $$shell > packaging/completions/wyntaxis.$$shell || exit 1; done

# Builds of one commit are equal, byte by byte: times are those of the commit.
wheel: $(READY) $(GUIDE)
	@SOURCE_DATE_EPOCH=$$(git log -1 --format=%ct) $(BIN)/python -m build --wheel --no-isolation --outdir dist . >/dev/null
	@ls dist/*.whl

deb: wheel
	@SOURCE_DATE_EPOCH=$$(git log -1 --format=%ct) $(BIN)/python tools/make_deb.py dist

# What is locked, as CycloneDX 1.6.
sbom: $(READY)
	@mkdir -p dist
	@$(BIN)/python tools/make_sbom.py requirements.lock > dist/wyntaxis.cdx.json
	@ls dist/wyntaxis.cdx.json

# Locks exact versions with hashes; run it after changing the dependencies in pyproject.toml.
lock: $(READY)
	@$(BIN)/pip install --quiet pip-tools
	@$(BIN)/pip-compile --quiet --generate-hashes --extra dev --extra raw --no-strip-extras --allow-unsafe --no-emit-options \
		--no-emit-index-url --no-emit-find-links --no-header --output-file requirements.lock pyproject.toml

$(READY): requirements.lock pyproject.toml
	@command -v $(PYTHON) >/dev/null || { echo "Python 3.11 is missing: install the package python3.11 (Debian, Ubuntu), or say make PYTHON=/path/to/python3.11"; exit 1; }
	@$(PYTHON) tools/check_system.py --install
	@$(PYTHON) -m venv $(VENV)
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes --requirement requirements.lock
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	@touch $@

clean:
	@rm -rf $(VENV) .mypy_cache .ruff_cache .pytest_cache .hypothesis .import_linter_cache build dist
