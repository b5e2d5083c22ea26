"""The real browsers of the machine: which are there, their policy files, and visits with them."""
