"""The second executor: content as tables of a database or of files, asked by the same plans."""
