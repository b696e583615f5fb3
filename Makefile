# make demo runs the main job, make test the tests; both set up what they need first.
PYTHON ?= $(shell command -v /usr/bin/python3 || command -v python3)
VENV := .venv
BIN := $(VENV)/bin

.PHONY: help setup demo test faults host-tests whole quick lint bench fuzz commands screenshots clean

help:                ## what can be made
	@sed -n 's/^\([a-z]*\):.*## /  make \1\t/p' $(MAKEFILE_LIST) | expand -t 22

setup: $(VENV)/ready ## the programs and the Python environment that the rest needs

$(VENV)/ready: pyproject.toml tools/setup.sh
	@PYTHON="$(PYTHON)" tools/setup.sh "$(VENV)"
	@touch $@

demo: setup          ## run the saltmarsh demonstration: real guests, no privileges
	$(BIN)/dacha demo

test: setup          ## pass the style's checks and the tests, with real guests
	tools/test.sh $(BIN)

faults: setup        ## every fault that trace is tried on, with real guests, and a desktop entered from the LAN: half an hour
	tools/setup.sh "$(VENV)" faults
	$(BIN)/pytest -s -q -p no:cacheprovider -m whole tests/faults

host-tests: setup    ## a whole host in a guest: service, boot order, reboot, power cuts, control groups; half an hour
	$(BIN)/pytest -s -q -p no:cacheprovider -m whole tests/whole_host

whole: setup         ## all that make test tries a part of: every fault, every firewall, every way of an installation; an hour
	tools/setup.sh "$(VENV)" faults
	$(BIN)/pytest -s -q -p no:cacheprovider -m whole tests --ignore tests/whole_host
	DACHA_EXAMPLES=500 $(BIN)/pytest -q -p no:cacheprovider tests/core tests/wire tests/formats tests/hypervisor

quick: setup         ## the tests that need no guest and no network of their own, in seconds
	$(BIN)/pytest -q tests/core tests/engine tests/wire tests/formats tests/test_repository.py tests/test_words.py tests/hypervisor/test_command_line.py \
		tests/cli/test_bad_input.py tests/cli/test_editing.py tests/cli/test_quick.py tests/caretaker/test_journal.py

lint: setup          ## the style and the types
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check src tests bench
	$(BIN)/mypy
	shellcheck tools/*.sh .ci/run
	shellcheck --shell=dash --exclude=SC2086,SC3043 src/dacha/demo/*.sh

bench: setup         ## the performance promises, as ratios in one run; the programs that they need are installed or named
	tools/setup.sh "$(VENV)" bench
	@failed=; for script in $$(ls bench/*.py | grep -v -e labs -e worlds -e archive -e installer_parts -e soak -e install_debian); do \
		echo "$$script"; $(BIN)/python $$script || failed="$$failed $$script"; done; \
	if [ "$$failed" ]; then echo "Fell short or could not run:$$failed"; exit 1; fi

fuzz: setup          ## every parser of foreign bytes, a minute each: 40 minutes
	$(BIN)/python bench/fuzz_parsers.py 60

commands: setup      ## docs/commands.md, from the program
	$(BIN)/python tools/commands_page.py

screenshots: setup   ## the pictures in docs/screenshots, from the demo data
	tools/setup.sh "$(VENV)" screenshots
	PATH="$(CURDIR)/$(BIN):$$PATH" tools/screenshots.sh

clean:               ## remove what make made here
	rm -rf $(VENV) .mypy_cache .ruff_cache .pytest_cache .hypothesis
