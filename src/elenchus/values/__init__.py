"""Single values: text folding and collation, dates as intervals, nearest spellings."""
