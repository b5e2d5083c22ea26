"""The demo estate, Brackwater Ferries, and its scenario. All made up."""
