"""Text laid out for reading: pieces with roles, grids of cells, problems with carets."""
