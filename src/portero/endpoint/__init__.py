"""The endpoint stand-in: a program that joins, syncs, enforces and reports; and a fleet of simulated ones."""
