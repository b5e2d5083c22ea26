"""Questions about a whole estate."""
