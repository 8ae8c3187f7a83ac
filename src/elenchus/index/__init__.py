"""What one run keeps of a site's content for the next."""
