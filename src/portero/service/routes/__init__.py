"""The routes, one module a noun: parse, authorise, call, answer."""
