"""Probes: what the service asks this machine to try, and how it is tried."""
