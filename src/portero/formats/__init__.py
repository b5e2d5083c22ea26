"""Open formats in and out: bytes to nouns and back."""
