# Two commands are enough: `make demo` and `make test`. Each sets up what it needs and is quick the second time.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
CONSOLE := src/everyshelf/service/web/console
CONSOLE_SOURCES := $(shell find console/src console/public -type f 2>/dev/null) console/package.json console/vite.config.ts console/index.html
export PYTHONUTF8 := 1
# Where the surroundings forbid it, every process would compile every module anew: five seconds for each start of a service.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test nightly serve bench check fix schema kinds commands tour guides setup browser postgres curl ssh console cadaver

demo: setup console
	$(BIN)/everyshelf demo

serve: setup console
	$(BIN)/everyshelf serve

test: setup console browser postgres curl ssh cadaver
	$(BIN)/python -m tests

# All of the above, what is slower and rarer (tests/sets.py), the laws with all examples, and the cuts of safety nets.
nightly: setup console browser postgres curl ssh cadaver
	$(BIN)/python -m tests.nightly

check: setup console
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	EVERYSHELF_DATA=$$(mktemp -d) $(BIN)/mypy src/everyshelf bench tests/support
	$(BIN)/python -m tests.check
	cd console && npm run --silent typecheck && npm run --silent lint

fix: setup console
	$(BIN)/ruff check --fix .
	$(BIN)/ruff format .
	cd console && npm run --silent fix

# Generated, checked in, and compared by `make check`.
schema: setup
	EVERYSHELF_DATA=$$(mktemp -d) DJANGO_SETTINGS_MODULE=everyshelf.service.settings \
	  $(BIN)/python -m django spectacular --validate --fail-on-warn --file docs/openapi.yaml
	cd console && npm run --silent types

# The README's tour with the output its commands have now; a test compares them.
tour: setup console
	$(BIN)/python -m tests.support.tour

# The output in the pages whose commands are run: guides, client, interface; tests compare them.
guides: setup console
	$(BIN)/python -m tests.support.guide docs/guides/*-analyst.md docs/guides/release-manager.md docs/guides/administrator.md docs/guides/git.md docs/client.md docs/data-tools.md docs/queries.md docs/api.md

# The command reference, from the help of the commands; compared by `make check`.
commands: setup
	$(BIN)/python -m tests.support.command_page

# The tables of the kinds, mirrored in docs/kinds-inside.md and compared by `make check`.
kinds: setup
	$(BIN)/python -m tests.support.kind_page

bench: setup console
	$(BIN)/python -m bench

setup: $(VENV)/.done
console: $(CONSOLE)/index.html

$(VENV)/.done: requirements/lock.txt pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install -q --disable-pip-version-check --no-deps --no-compile -r requirements/lock.txt
	$(BIN)/pip install -q --disable-pip-version-check --no-deps --no-build-isolation --no-compile -e .
	touch $@

console/node_modules/.done: console/package-lock.json
	cd console && npm ci --silent --no-audit --no-fund
	touch $@

$(CONSOLE)/index.html: console/node_modules/.done $(CONSOLE_SOURCES)
	cd console && npm run --silent build
	touch $@

# The browser tests drive Debian's own Chromium.
browser:
	@if ! command -v chromium >/dev/null || ! command -v chromedriver >/dev/null; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium chromium-driver; fi
	@if ! test -x /usr/bin/chromium-headless-shell; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends \
	  chromium-headless-shell=$$(dpkg-query -W -f '$${Version}' chromium-driver) \
	  || echo "no chromium-headless-shell of the driver's version: tests take longer"; fi

# The examples of docs/api.md are run with it.
curl:
	@if ! command -v curl >/dev/null; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends curl; fi

# A network folder is tried with it; where it cannot be had that is skipped.
cadaver:
	@if ! command -v cadaver >/dev/null; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends cadaver \
	  || echo "no cadaver: its tests are skipped"; fi

# Git links are tried over a real SSH server; where none can be had that is skipped. Its client is needed to use them.
ssh:
	@if ! command -v ssh >/dev/null || ! test -x /usr/sbin/sshd; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends openssh-client openssh-server \
	  || echo "no SSH server: its tests are skipped"; fi

# Tests promote into a real PostgreSQL server; where none can be had they skip that.
postgres:
	@if ! ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends postgresql \
	  || echo "no PostgreSQL server: its tests are skipped"; fi
