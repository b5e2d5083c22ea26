"""Feeds: fetched, read, compared, put in force; and what is held of them."""
