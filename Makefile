# What people do here most. Everything happens in .venv.
.PHONY: setup test soak check demo pictures
PYTHON ?= python3

setup:
	$(PYTHON) -m venv .venv
	.venv/bin/pip install --quiet -e '.[dev]'

test: setup
	.venv/bin/pytest

# All cases, and twenty times the examples: some hours. Its last result stands in docs/decisions.md.
soak: setup
	ELENCHUS_SOAK=1 .venv/bin/pytest

check: setup
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy

demo: setup
	folder=$$(mktemp -d) && .venv/bin/elenchus demo "$$folder/skerry-bay"; rm -r "$$folder"

pictures: setup
	.venv/bin/python tools/pictures.py
