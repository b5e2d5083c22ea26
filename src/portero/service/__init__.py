"""The service: thin FastAPI routes over the store and the core, device routes, live stream, the console's files."""
