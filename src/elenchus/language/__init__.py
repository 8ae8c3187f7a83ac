"""The question language: from text to tree and back."""
