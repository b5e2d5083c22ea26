# Portero: `make demo` shows it, `make test` proves it. Each installs what is missing.
SHELL := /bin/bash
.DEFAULT_GOAL := help

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
CONSOLE := src/portero/service/console/index.html
PORT ?= 8642
ROUNDS ?= 1
# how many processes run the tests
WORKERS ?= 2
ARGS ?=

# Debian packages that only the tests need: real browsers, fonts for them to draw with, a desktop's bus, a proxy
TEST_PACKAGES := chromium firefox-esr fonts-dejavu-core dbus-daemon osslsigncode nginx-light
# and those that only pictures of a terminal need: a screen, a terminal window, a camera
SCREENSHOT_PACKAGES := xvfb xterm scrot

.PHONY: help setup demo test test-fast explore check bench load screenshots reference clean tools test-packages screenshot-packages

help: ## this list
	@echo "Portero. The first run of any of these installs what it needs into this folder."
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 14 | sed 's/^/  make /'

tools: ## check for what make cannot install
	@command -v $(PYTHON) >/dev/null || { echo "Python is missing: install Python 3.11 or newer (Debian: apt-get install python3 python3-venv)."; exit 1; }
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python is too old: 3.11 or newer is needed; name one with make PYTHON=python3.11."; exit 1; }
	@$(PYTHON) -c 'import venv, ensurepip' 2>/dev/null || { echo "Python's venv module is missing: install it (Debian: apt-get install python3-venv)."; exit 1; }
	@command -v node >/dev/null || { echo "Node.js is missing: install Node.js 20.19 or newer."; exit 1; }
	@node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' || { echo "Node.js is too old: 20.19 or newer is needed."; exit 1; }
	@command -v npm >/dev/null || { echo "npm is missing: install it with Node.js."; exit 1; }

setup: tools $(VENV)/installed $(CONSOLE) ## make .venv with portero and portero-endpoint in it, and build the console

$(VENV)/installed: requirements.lock pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	@touch $@

console/node_modules/.installed: console/package-lock.json console/.npmrc
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(CONSOLE): console/node_modules/.installed docs/reference/openapi.json $(shell find console -path console/node_modules -prune -o -type f ! -name schema.ts -print)
	cd console && npm run --silent types && npm run --silent build
	@touch $@

demo: setup ## start Brackwater Ferries: service, 240 machines, a real filter, a made-up web
	$(BIN)/portero demo --port $(PORT) $(ARGS)

screenshot-packages: TEST_PACKAGES += $(SCREENSHOT_PACKAGES)
test-packages screenshot-packages:
	@missing=$$(for one in $(TEST_PACKAGES); do dpkg -s $$one >/dev/null 2>&1 || echo $$one; done); \
	if [ -n "$$missing" ]; then \
	  sudo=$$([ "$$(id -u)" = 0 ] || echo sudo); \
	  echo "Installing:" $$missing; \
	  $$sudo apt-get update -qq && $$sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null \
	    || { echo "These Debian packages are needed and could not be installed: $$missing"; exit 1; }; \
	fi

check: setup ## formatter, linters, types, direction of imports
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo
	cd console && npm run --silent check

test: setup test-packages check ## everything: checks and all tests, a real browser included
	$(BIN)/pytest -n $(WORKERS) --dist loadfile --no-loadscope-reorder

test-fast: setup ## the core and the formats, in seconds
	$(BIN)/pytest -q tests/core tests/formats

EXPLORED := tests/core tests/formats tests/browsers tests/service/test_fuzz.py tests/service/test_roster.py tests/journeys/test_killed.py tests/journeys/test_import_killed.py

explore: setup test-packages ## what is tried often, far more often, with other examples each time; ROUNDS=5 for more
	for round in $$(seq $(ROUNDS)); do PORTERO_EXPLORE=1 $(BIN)/pytest -q -n $(WORKERS) --hypothesis-profile=explore $(EXPLORED) || exit 1; done

bench: setup ## speed and memory beside a floor from the same run; QUICK=1 for a short one
	PYTHONPATH=tests $(BIN)/python -m bench $(if $(QUICK),--quick)

load: setup ## 10,000 simulated machines at work for ten minutes; QUICK=1 for 1,000 and one minute
	PYTHONPATH=tests $(BIN)/python -m bench.load $(if $(QUICK),--quick)

screenshots: setup screenshot-packages ## draw docs/screenshots anew from the demo estate
	$(BIN)/python docs/screenshots/make.py

reference: setup ## write the generated reference: OpenAPI description, command line
	$(BIN)/python docs/reference/make.py

clean: ## remove what was installed and built here (the demo's data too)
	rm -rf $(VENV) console/node_modules src/portero/service/console console/src/api/schema.ts demo-data
	rm -rf .pytest_cache .mypy_cache .ruff_cache .import_linter_cache .hypothesis build
	find . -name __pycache__ -prune -exec rm -rf {} +
