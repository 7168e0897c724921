"""The join: `overlaps` decides which rows count, `matching` finds the page of every spelling, `joined` joins all sources to their pages and
draws up the account. Their computations are in `core.join`.
"""
