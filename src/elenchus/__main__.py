"""``python -m elenchus``: the same program as ``elenchus``."""

from elenchus.cli.program import main

main()
