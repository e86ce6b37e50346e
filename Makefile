# make demo starts Veduta with demo data; make test runs every test. Both set up what they need.
PYTHON ?= python3
PORT ?= 8000
# One more than processors: tests with servers and browsers wait as long as they compute.
TEST_PROCESSES ?= $(shell expr $$(nproc) + 1)
BIN = .venv/bin
DIST = veduta/web/static/dist
TEMPLATES = veduta/web/templates
SCRIPTS = frontend tests/frontend
PIN = $(BIN)/uv pip compile pyproject.toml --quiet --universal --generate-hashes --no-annotate \
  --custom-compile-command "make requirements"
export PORT
# Compiled files are kept: each of the many processes of the tests starts three times as fast.
export PYTHONDONTWRITEBYTECODE =

.PHONY: demo test nightly test-seconds quick coverage dev lint format requirements requirements-check \
  fuzz mutate bench bench-tables screenshots gallery build setup clean browser

demo: setup build
	@echo "Preparing the database …"
	@$(BIN)/python manage.py migrate --verbosity 0
	@$(BIN)/python manage.py collectstatic --noinput --verbosity 0
	@$(BIN)/python manage.py demo
	@$(BIN)/python manage.py serve --demo

# How much of the core its own tests run through, and which lines they don't.
coverage: setup
	@VEDUTA_EFFORT=quick $(BIN)/coverage run manage.py test tests.core --exclude-tag long
	@$(BIN)/coverage report

dev: setup
	@rm -f $(DIST)/built # so that make demo builds anew what this leaves unminified
	@$(BIN)/python manage.py migrate --verbosity 0
	@VEDUTA_DEBUG=1 $(BIN)/python manage.py demo
	@trap 'kill 0' EXIT; node frontend/build.mjs --watch & VEDUTA_DEBUG=1 $(BIN)/python manage.py worker & VEDUTA_DEBUG=1 $(BIN)/python manage.py runserver 127.0.0.1:$(PORT)

test: setup build browser
	@node --test --test-reporter=dot tests/frontend
	@$(BIN)/python manage.py test --parallel $(TEST_PROCESSES)

# Everything, with all random examples, and pages in every look.
nightly: export VEDUTA_EFFORT = nightly
nightly: test coverage

# Records how long each class takes, by which the runner orders them.
test-seconds: export VEDUTA_RECORD_SECONDS = 1
test-seconds: test

# What needs no browser and kills nothing, with fewer random examples.
quick: setup
	@node --test --test-reporter=dot tests/frontend
	@VEDUTA_EFFORT=quick $(BIN)/python manage.py test --parallel auto \
	  --exclude-tag browser --exclude-tag killing --exclude-tag long

lint: setup requirements-check
	@$(BIN)/ruff check .
	@$(BIN)/ruff format --check .
	@PYTHONPATH=. $(BIN)/lint-imports
	@$(BIN)/python -m lint.names
	@$(BIN)/deptry veduta
	@$(BIN)/mypy
	@$(BIN)/djangofmt --check --quiet $(TEMPLATES)
	@$(BIN)/djangofmt check --quiet $(TEMPLATES)
	@$(BIN)/djlint --lint --quiet $(TEMPLATES)
	@npx --no-install eslint $(SCRIPTS)
	@npx --no-install prettier --log-level warn --check $(SCRIPTS) frontend/app.css *.json *.js
	@npx --no-install tsc
	@npx --no-install tsc --project tsconfig.pages.json
	@! LC_ALL=C.UTF-8 grep -rnE '^.{121,}' $(TEMPLATES) || { echo "Lines of templates are at most 120 characters long."; exit 1; }

format: setup
	@$(BIN)/ruff check --fix --quiet .
	@$(BIN)/ruff format --quiet .
	@$(BIN)/djangofmt check --fix --quiet $(TEMPLATES)
	@$(BIN)/djangofmt --quiet $(TEMPLATES)
	@npx --no-install prettier --log-level warn --write $(SCRIPTS) frontend/app.css *.json *.js

# Writes the guide's page of kinds from what they declare.
guide: setup
	@$(BIN)/python -m veduta.core.chart.kinds_page

# Plants faults in FILES, MOST in each, and lists those that the tests near do not catch.
mutate: setup
	@VIRTUAL_ENV=.venv $(BIN)/uv pip install --quiet --require-hashes --requirement requirements-mutation.txt
	@VEDUTA_EFFORT=mutate $(BIN)/python -m tests.mutate $(FILES) $(if $(MOST),--most $(MOST))

fuzz: setup
	@$(BIN)/python -m tests.fuzz

bench: setup build
	@$(BIN)/python -m bench $(GROUP)

# Writes the tables of docs/performance.md anew from what make bench measured last.
bench-tables: setup
	@$(BIN)/python -m bench.write

gallery: setup build browser
	@$(BIN)/python -m tests.gallery

screenshots: setup build browser
	@$(BIN)/python -m tests.screenshots

setup: .venv/ready node_modules/.package-lock.json

.venv/ready: requirements-dev.txt
	@echo "Installing Python packages …"
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check "$$(grep -o '^uv==[^ ]*' requirements-dev.txt)"
	@VIRTUAL_ENV=.venv $(BIN)/uv pip sync --quiet --require-hashes requirements-dev.txt
	@touch $@

# What pyproject.toml asks for, pinned with hashes: to run (requirements.txt), and with what tests and checks need.
requirements: setup
	@$(PIN) --output-file requirements.txt
	@$(PIN) --extra dev --constraint requirements.txt --output-file requirements-dev.txt
	@$(PIN) --extra dev --extra mutation --constraint requirements-dev.txt --output-file requirements-mutation.txt

# Fails when make requirements would change something.
requirements-check: setup
	@folder=$$(mktemp -d) && cp requirements*.txt $$folder && \
	  $(PIN) --output-file $$folder/requirements.txt && \
	  $(PIN) --extra dev --constraint requirements.txt --output-file $$folder/requirements-dev.txt && \
	  $(PIN) --extra dev --extra mutation --constraint requirements-dev.txt \
	    --output-file $$folder/requirements-mutation.txt && \
	  { diff -q $$folder/requirements.txt requirements.txt && diff -q $$folder/requirements-dev.txt requirements-dev.txt \
	    && diff -q $$folder/requirements-mutation.txt requirements-mutation.txt \
	    || { echo "The pinned requirements are stale. Run make requirements."; exit 1; }; }; \
	  code=$$?; rm -rf $$folder; exit $$code

node_modules/.package-lock.json: package.json package-lock.json
	@echo "Installing front-end packages …"
	@npm ci --silent --no-audit --no-fund
	@touch $@

build: $(DIST)/built

$(DIST)/built: node_modules/.package-lock.json $(shell find frontend veduta/web/templates -type f)
	@echo "Building the front end …"
	@node frontend/build.mjs
	@touch $@

# The browser tests drive Debian's Chromium without a window. It is installed where that is allowed; otherwise this says
# what to do.
browser:
	@test -x /usr/bin/chromium-headless-shell || { echo "Installing Chromium for the browser tests …"; \
	  { test "$$(id -u)" = 0 && apt-get update -qq && \
	    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq chromium-headless-shell >/dev/null; } || \
	  { echo "The browser tests need Chromium: sudo apt-get install chromium-headless-shell"; exit 1; }; }

clean:
	rm -rf .venv node_modules $(DIST)
