"""SQLite through plain SQL. Schema and migrations are .sql files; one module a noun."""
