"""Portero: assign web blocks to device groups, see how they resolve, and verify what each machine will really block."""

__version__ = "0.1.0"
