"""From a tree to a checked plan: names resolved, values typed, every problem with its span."""
