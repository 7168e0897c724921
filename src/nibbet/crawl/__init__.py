"""A polite crawler for the user's own site: it makes the inventory that the rest of Nibbet reads."""
