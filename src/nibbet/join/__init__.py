"""The join: `overlaps` settles which rows count, `matching` finds the page of every spelling, `joined` brings all sources to their pages and draws up
the account. What they compute stands in `core.join.rows`.
"""
