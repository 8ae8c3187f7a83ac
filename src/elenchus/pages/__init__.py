"""The pages of a site: where each stands, what its sections show, what links to what."""
