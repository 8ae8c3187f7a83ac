"""Everything that can be known to be wrong before a site is published."""
