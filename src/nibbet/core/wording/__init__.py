"""Sentences, apart from the rules that choose them: each takes the pages it speaks of and their figures, and gives one text a page."""
