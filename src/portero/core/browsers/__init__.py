"""What real browsers make of a managed list of sites: one module for each family."""
