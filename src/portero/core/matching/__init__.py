"""What a selector matches: URLs and hosts, categories, membership rules."""
