"""A site on disk: its definitions read and checked, its content loaded, its clock set."""
