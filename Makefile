# Two commands matter: `make demo` and `make test`. Each sets up what it needs and is quick the
# second time.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: setup console demo demo-real demo-real-tour demo-tour agent test check format torture torture-real generated types-console bench clean

setup: .venv/ready
console: src/windbreak/service/console/index.html

.venv/ready: requirements.txt pyproject.toml hatch_build.py
	test -x $(BIN)/python || $(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -r requirements.txt
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	touch $@

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

src/windbreak/service/console/index.html: console/node_modules/.package-lock.json $(shell find console/src console/public console/index.html console/vite.config.ts -type f 2>/dev/null)
	cd console && npm run --silent build

# All that is made from one source and kept: the console's types, acts, the client's stub, the index.
generated: types-console
	$(BIN)/python -m windbreak.client.stub
	$(BIN)/python -m windbreak.cli.index
	$(BIN)/python -m windbreak.wording.acts > console/src/api/acts.json

types-console: setup
	$(BIN)/python -m windbreak.service.openapi > console/openapi.json
	cd console && npm run --silent types

demo: setup console
	$(BIN)/windbreak demo

# With a real WordPress and its twin; asks before it installs anything.
demo-real: setup console
	$(BIN)/windbreak demo --real

# Its whole story without a person; exit status 0 only where every stage was seen.
demo-real-tour: setup console
	$(BIN)/windbreak demo --real --tour

# The agent for a real site, as the system's own page takes it.
agent: dist/windbreak-agent.zip
dist/windbreak-agent.zip: $(shell find agent -type f)
	mkdir -p dist && rm -f $@ && cd agent && $(PYTHON) -m zipfile -c ../$@ windbreak-agent

demo-tour: setup console
	$(BIN)/windbreak demo --tour

test: setup console
	bash tests/run.sh

bench: setup
	$(BIN)/python -m pip install --quiet --disable-pip-version-check "matplotlib>=3.9" "ortools>=9.12"
	$(BIN)/python -m benchmarks.run

# A bad night: SEED=7 repeats one, SHORT=1 is a tenth of it.
torture: setup
	$(BIN)/python -m tests.torture $(if $(SEED),--seed $(SEED)) $(if $(SHORT),--short)

# The service killed at 30 instants of a run on a real site.
torture-real: setup
	$(BIN)/python -m tests.torture.real $(if $(SEED),--seed $(SEED))

# Format, lint, types and the core's tests, in a minute.
check: setup console
	$(BIN)/python -W error -W "ignore::DeprecationWarning:schemathesis" -m tests.run --check

format: setup
	$(BIN)/ruff format .
	$(BIN)/ruff check --fix .

clean:
	rm -rf .venv console/node_modules src/windbreak/service/console demo-data
