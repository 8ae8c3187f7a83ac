"""A site for content that is there: what it seems to be, written down to be read and changed."""
