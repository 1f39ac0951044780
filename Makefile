# `make demo` and `make test` are all that a fresh machine needs; each installs what is missing.
BIN := .venv/bin
SLOTS ?= 4
# one more than there are processors: a test waits for its runs a third of its time
WORKERS ?= $(shell expr $$(nproc) + 1)

# programs that are compiled anew at each start take a quarter longer, and so does each test process
unexport PYTHONDONTWRITEBYTECODE

.PHONY: setup demo test check check-web check-tests lint lint-python lint-web bench client lock

setup:            ## install what is missing and build the interface
	@tools/setup

demo: setup       ## run the demo until Ctrl-C
	@$(BIN)/myriant up --demo --slots $(SLOTS) --share .setup/wheels

test: setup       ## lint, then every test
	@tools/setup --with-browser
	@$(MAKE) --no-print-directory lint
	@cd web && ../$(BIN)/npm run -s test
	@$(BIN)/pytest tests -n $(WORKERS) --dist loadfile --no-loadscope-reorder

check: setup      ## what a change needs while one works: lint, types, unit tests, one push end to end
	@$(MAKE) --no-print-directory -j3 lint-python check-web check-tests

check-web:
	@cd web && ../$(BIN)/npm run -s lint && ../$(BIN)/npm run -s test -- --changed HEAD

check-tests:      # few examples of each property, and every story that is told in process
	@MYRIANT_EXAMPLES=8 $(BIN)/pytest tests/core tests/repos tests/stories -p no:schemathesis -m "not long" -n 2 --dist loadfile --no-loadscope-reorder -q --maxfail 5

lint: setup       ## Python and the interface side by side
	@$(MAKE) --no-print-directory -j2 lint-python lint-web

lint-python:
	@$(BIN)/ruff check . && $(BIN)/ruff format --check -q .
	@$(BIN)/mypy
	@$(BIN)/lint-imports > .setup/imports.log || { cat .setup/imports.log; exit 1; }
	@tools/client --check

lint-web:
	@cd web && ../$(BIN)/npm run -s lint

bench: setup      ## measurements, as JSON lines
	@$(BIN)/python -m tests.bench

client: setup     ## generate the web client from the API
	@tools/client

lock: setup       ## pin the Python packages anew, with hashes
	cd requirements && UV_CUSTOM_COMPILE_COMMAND="make lock" ../.venv/bin/uv pip compile -q --universal --generate-hashes --python-version 3.11 setup.in -o setup.txt
	cd requirements && UV_CUSTOM_COMPILE_COMMAND="make lock" ../.venv/bin/uv pip compile -q --universal --generate-hashes --python-version 3.11 main.in -o main.txt
	cd requirements && UV_CUSTOM_COMPILE_COMMAND="make lock" ../.venv/bin/uv pip compile -q --universal --generate-hashes --python-version 3.11 dev.in -o dev.txt
	cd requirements && UV_CUSTOM_COMPILE_COMMAND="make lock" ../.venv/bin/uv pip compile -q --generate-hashes --python-version 3.8 demo.in -o demo.txt
