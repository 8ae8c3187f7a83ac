"""Typed columns and posting lists: what a question runs on."""
