# Everything a person needs: `make demo`, `make test`. See README.md.
SHELL := /bin/bash
.SHELLFLAGS := -euo pipefail -c
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
STAMPS := .stamps
PORT ?= 8321

# Node from the machine where it is new enough, else from a PyPI wheel into the environment.
WITH_NODE := PATH="$(CURDIR)/$(BIN):$$PATH"
WEB_SOURCES := $(shell find web -path web/node_modules -prune -o -path web/dist -prune -o -type f -print 2>/dev/null)
KERNELS := $(shell find src/tansy/engine/kernels -name '*.py')

.PHONY: setup demo demo-reset serve test lint bench types wheel lock audit clean

setup: $(STAMPS)/python $(STAMPS)/kernels $(STAMPS)/web

$(STAMPS)/python: requirements/build.txt requirements/base.txt requirements/dev.txt pyproject.toml
	@mkdir -p $(STAMPS)
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --no-deps -r requirements/build.txt
	$(BIN)/python -m pip install --quiet --no-deps -r requirements/base.txt -r requirements/dev.txt
	$(BIN)/python -m pip install --quiet --no-deps --no-build-isolation --editable .
	$(BIN)/python -m pip check
	@touch $@

$(STAMPS)/kernels: $(STAMPS)/python $(KERNELS)
	$(BIN)/python -m tansy.engine.study.compile
	@touch $@

$(STAMPS)/node: $(STAMPS)/python
	@node -e 'const [a,b]=process.versions.node.split(".").map(Number); process.exit(a>22||(a===22&&b>=12)||(a===20&&b>=19)?0:1)' 2>/dev/null \
	  && command -v npm >/dev/null || $(BIN)/python -m pip install --quiet --no-deps -r requirements/node.txt
	@touch $@

$(STAMPS)/npm: $(STAMPS)/node web/package.json web/package-lock.json
	cd web && $(WITH_NODE) npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# The front end's types, made from the API's description.
web/src/api/schema.d.ts: $(STAMPS)/npm web/openapi.json
	cd web && $(WITH_NODE) npm run --silent api >/dev/null

$(STAMPS)/web: web/src/api/schema.d.ts $(WEB_SOURCES)
	cd web && $(WITH_NODE) npm run --silent build
	$(BIN)/python -m whitenoise.compress --quiet src/tansy/server/page
	@touch $@

demo: setup
	$(BIN)/tansy demo --port $(PORT)

demo-reset: setup
	$(BIN)/tansy demo --reset --port $(PORT)

serve: setup
	$(BIN)/tansy serve --port $(PORT)

# The browser tests drive Debian's Chromium; they fail, with a clear word, where it cannot be had.
$(STAMPS)/chromium:
	@mkdir -p $(STAMPS)
	@command -v chromium >/dev/null || (echo "installing chromium by apt-get ..." \
	  && apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium >/dev/null) \
	  || (echo "Chromium is missing and could not be installed: run 'apt-get install chromium' as root, then make test again." && exit 1)
	@touch $@

lint: $(STAMPS)/python web/src/api/schema.d.ts
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python -m django makemigrations --check --dry-run --settings tansy.server.settings
	$(BIN)/python -m django spectacular --settings tansy.server.settings --format openapi-json --validate --fail-on-warn > web/openapi.check.json
	@cmp -s web/openapi.json web/openapi.check.json || (echo "web/openapi.json is out of date: run make types" && exit 1)
	@rm web/openapi.check.json
	cd web && $(WITH_NODE) npm run --silent lint && $(WITH_NODE) npm run --silent types

# The API's description, and the front end's types made from it.
types: $(STAMPS)/python $(STAMPS)/npm
	$(BIN)/python -m django spectacular --settings tansy.server.settings --format openapi-json --validate --fail-on-warn > web/openapi.json
	$(MAKE) web/src/api/schema.d.ts

test: setup $(STAMPS)/chromium lint
	cd web && $(WITH_NODE) npm run --silent test
	$(BIN)/python -m pytest -n 2 tests/engine tests/server
	$(BIN)/python -m pytest tests/browser

# What `pip install` takes: the engine, the server, the command line and the front end.
wheel: setup
	rm -rf build
	$(BIN)/python -m pip wheel --quiet --no-deps --no-build-isolation --wheel-dir dist .

# Newer versions are taken by hand: delete a line of a list, and lock again. Every file has its sum.
lock: $(STAMPS)/python
	@for list in build base cluster dev node audit; do \
	  $(BIN)/uv pip compile --quiet --python-version 3.11 --universal --generate-hashes --no-emit-index-url \
	    --custom-compile-command "make lock" requirements/$$list.in --output-file requirements/$$list.txt; \
	done

# Known faults of packages; needs an advisory service, and says so where there is none.
$(STAMPS)/audit: $(STAMPS)/python requirements/audit.txt
	$(PYTHON) -m venv $(STAMPS)/auditor
	$(STAMPS)/auditor/bin/python -m pip install --quiet --no-deps -r requirements/audit.txt
	@touch $@

audit: $(STAMPS)/audit $(STAMPS)/npm
	@$(WITH_NODE) $(BIN)/python .ci/audit $(STAMPS)/auditor/bin/pip-audit

bench: setup
	$(BIN)/tansy demo --no-serve
	$(BIN)/python -m bench

clean:
	rm -rf $(STAMPS) $(VENV) web/node_modules src/tansy/server/page dist build web/src/api/schema.d.ts
