"""The command line: one module a command family; prints tables with rich, or JSON."""
