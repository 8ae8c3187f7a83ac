"""Why an answer is as it is, and what would change it."""
