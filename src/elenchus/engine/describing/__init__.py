"""What a site holds, as tables of facts."""
