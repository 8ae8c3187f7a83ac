"""Running a plan on columns in memory."""
