"""The two ways to explore: a screen for terminals, and lines for screen readers, pipes and programs."""
