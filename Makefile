# make demo, make test: do all set-up on a fresh Debian or Ubuntu machine.

VENV := .venv
PYTHON ?= python3
STAMP := $(VENV)/.ready

.PHONY: demo test setup bench clean install uninstall

demo: setup
	@$(VENV)/bin/python scripts/show_demo.py

test: setup
	@sh scripts/system_packages.sh test
	@sh scripts/check.sh

bench: setup
	@$(VENV)/bin/python benchmarks/run.py

# into the user's own desktop: entry, icon, file type, command
install uninstall: setup
	@$(VENV)/bin/pulizia $@-desktop

setup: $(STAMP)

$(STAMP): pyproject.toml
	@sh scripts/system_packages.sh
	@test -x $(VENV)/bin/python || $(PYTHON) -m venv $(VENV)
	@$(VENV)/bin/python -m pip install --quiet --editable '.[test]'
	@touch $(STAMP)

clean:
	rm -rf $(VENV) build
