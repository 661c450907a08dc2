# Every target does all of its own set-up, on a fresh Debian or Ubuntu machine with Python 3.11 or newer.
#
#   make demo        make the demo estate, survey it and print the audit
#   make demo-ssh    collect three hosts of it over real SSH from this machine's loopback, and print the audit
#   make cluster-demo  survey 2,000 made-up hosts into PostgreSQL, and ask them by this machine and by a scheduler with two workers
#   make survey      survey this machine (as root, to see all of it) and print the audit
#   make test        lint, types and tests, with the system packages that the tests use
#   make cover       the tests with coverage of the core
#   make test-long   the same with thousands of questions to real sudo
#   make fuzz        an hour of seeded hostile input for every language and reader (FUZZ_SECONDS, FUZZ_SEED)
#   make benchmark   measure; prints ratios, fails nothing
#   make man         write the manual pages, docs/checks.md and the page of each check
#   make docs        the same, and check that every link of the documentation leads somewhere
#   make dist        build the wheel and the source archive, check them, and run the demo from the wheel alone
#   make format      format the code
#   make clean       remove what the other targets made

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
# What the tests ask for their judgement: real sudo, other shells, a checker for shell scripts.
PACKAGES := sudo libnss-systemd busybox dash shellcheck iproute2 acl attr mawk gawk strace libcap2-bin openssh-server debootstrap rpm procps rsyslog systemd postgresql-15 mariadb-server slapd ldap-utils openssl mandoc samba-ad-dc samba-ad-provision samba-dsdb-modules samba-vfs-modules sssd-ldap sssd-ad sssd-tools winbind libnss-winbind samba-common-bin libsasl2-modules-gssapi-mit libnss-sss libpam-sss libsss-sudo nslcd libnss-ldapd chromium graphviz

.PHONY: demo demo-ssh cluster-demo survey test cover test-long fuzz check packages man docs dist benchmark format clean

demo: $(VENV)/installed
	$(BIN)/fidelitas demo

demo-ssh: $(VENV)/installed
	@sh tests/packages.sh openssh-server openssh-client
	PATH="$(abspath $(BIN)):$$PATH" sh scripts/demo_ssh.sh

cluster-demo: $(VENV)/installed-dev
	@sh tests/packages.sh postgresql-15
	PATH="$(abspath $(BIN)):$$PATH" $(BIN)/python benchmarks/scale.py --demo

survey: $(VENV)/installed
	$(BIN)/fidelitas survey

# The tests start the program some thousand times: it is compiled once, also where Python is told to write nothing.
test: packages check

check: $(VENV)/installed-dev
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/python -m compileall -q src
	$(BIN)/pytest -n auto --dist loadscope

# The same tests with the coverage of the core, which must be 90 %: a fifth slower.
cover: packages $(VENV)/installed-dev
	$(BIN)/pytest -n auto --dist loadscope --cov --cov-report=term

# Some thousands of questions to real sudo, more examples for every law, every planted road, and three releases of Debian full of servers: hours.
test-long: packages $(VENV)/installed-dev
	STOCK=all ROADS=all JUDGE_ESTATES=300 JUDGE_QUESTIONS=300x12 JUDGE_WORLDS=100 HYPOTHESIS_PROFILE=long $(BIN)/pytest -n auto --dist loadscope

FUZZ_SECONDS ?= 3600
FUZZ_SEED ?= 1
fuzz: $(VENV)/installed-dev
	$(BIN)/python tests/fuzz.py $(FUZZ_SECONDS) $(FUZZ_SEED)

# The manual pages and docs/checks.md, made of the commands and checks; kept in the repository, so that an installed wheel has them.
man: $(VENV)/installed
	$(BIN)/python -m fidelitas.cli.manual docs

docs: man $(VENV)/installed-dev
	$(BIN)/pytest -q tests/test_docs.py -k "links or readme"

# What is in the wheel is all that the demo may need: it runs from an environment that holds nothing else, outside of this folder.
dist: man
	rm -rf dist
	$(BIN)/python -m pip install --quiet 'build>=1.2,<2' 'twine>=6,<7'
	$(BIN)/python -m build --outdir dist
	$(BIN)/python -m twine check --strict dist/*
	rm -rf dist/try && $(PYTHON) -m venv dist/try && dist/try/bin/python -m pip install --quiet -c constraints.txt dist/*.whl
	cd dist/try && bin/fidelitas demo >/dev/null && bin/fidelitas report --ledger demo-estate/ledger --out report.html
	rm -rf dist/try

packages:
	@sh tests/packages.sh $(PACKAGES)

benchmark: $(VENV)/installed-dev
	$(BIN)/python benchmarks/run.py
	$(BIN)/python benchmarks/tree.py
	$(BIN)/python benchmarks/estate.py
	$(BIN)/python benchmarks/logs.py
	$(BIN)/python benchmarks/ssh.py
	$(BIN)/python benchmarks/incidents.py

format: $(VENV)/installed-dev
	$(BIN)/ruff check --fix src tests benchmarks
	$(BIN)/ruff format src tests benchmarks

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/installed: pyproject.toml constraints.txt | $(VENV)/bin/python
	$(BIN)/python -m pip install --quiet -c constraints.txt -e '.[all]'
	@touch $@

$(VENV)/installed-dev: pyproject.toml constraints.txt | $(VENV)/bin/python
	$(BIN)/python -m pip install --quiet -c constraints.txt -e '.[dev]'
	@touch $@ $(VENV)/installed

clean:
	rm -rf $(VENV) .mypy_cache .pytest_cache .ruff_cache .hypothesis demo-estate
