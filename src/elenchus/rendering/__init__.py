"""Pages as HTML: what templates are given, the templates themselves, one stylesheet and one script."""
