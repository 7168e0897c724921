"""Computations of the join: one address for all spellings of a page, which rows count for which days, and the balance of the account."""
