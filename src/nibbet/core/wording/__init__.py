"""Sentences, separate from the rules that choose them: each function takes pages and their figures, and returns one text per page."""
