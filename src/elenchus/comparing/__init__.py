"""Two states of a site: what enters listings, leaves them and moves in them, and when."""
