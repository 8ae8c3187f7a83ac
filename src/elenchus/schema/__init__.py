"""What a site declares about its content: types, kinds, fields, taxonomies; and entries as written."""
