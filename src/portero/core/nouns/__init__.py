"""The words of the vocabulary as frozen models, one module a noun.

These models are what the API speaks, what the client returns and what an estate document parses into.
"""
