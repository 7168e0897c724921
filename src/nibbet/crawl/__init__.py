"""A polite crawler for one's own site: it makes the inventory that the rest of Nibbet reads."""
