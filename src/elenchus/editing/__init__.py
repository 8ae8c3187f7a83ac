"""Changing content: what a change means for each entry, its file, and what places show; and back again."""
