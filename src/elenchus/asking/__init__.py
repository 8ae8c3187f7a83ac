"""Asking a site: questions and listings from text to answer, with their parameters."""
