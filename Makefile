# make demo: the example project, made, built, filled and served.   make test: everything that is checked.
PYTHON ?= python3
BIN = .venv/bin

.PHONY: demo test bench fuzz pairs mutants docs earlier screenshots clean

$(BIN)/welbik: pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable .
	@touch $@

$(BIN)/mypy: pyproject.toml $(BIN)/welbik
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[test]'
	@touch $@

demo: $(BIN)/welbik
	$(BIN)/welbik demo

test: $(BIN)/mypy
	$(BIN)/ruff check --no-cache .
	$(BIN)/ruff format --no-cache --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	$(BIN)/python -m pytest --numprocesses auto --dist worksteal

bench: $(BIN)/mypy
	$(BIN)/python bench/run.py

fuzz: $(BIN)/mypy
	$(BIN)/python bench/run.py --fuzz 1000000
	FUZZ_ROUNDS=7000 FUZZ_SEED=$$(date +%s) $(BIN)/python -m pytest --numprocesses 2 tests/test_fuzz.py -k request
	FOLDER_ROUNDS=1500 $(BIN)/python -m pytest --numprocesses 2 tests/test_foreign_project.py -k no_tree

pairs: $(BIN)/mypy
	WELBIK_PAIRS=25 $(BIN)/python -m pytest --numprocesses 2 tests/test_changes.py -k any_change

mutants: $(BIN)/mypy
	$(BIN)/python bench/mutants.py 100
	cd tests && ../$(BIN)/python -m mutants.core 60

docs: $(BIN)/welbik
	$(BIN)/python -c "from welbik.language.reports import as_markdown; print(as_markdown(), end='')" > docs/problems.md

earlier: $(BIN)/welbik
	$(BIN)/python docs/earlier.py

screenshots: $(BIN)/mypy
	$(BIN)/python docs/screenshots/take.py

clean:
	rm -rf .venv beekeepers
