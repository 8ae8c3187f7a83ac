"""The command line: arguments in, streams and exit codes out."""
