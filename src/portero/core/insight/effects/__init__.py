"""What the rules of a whole fleet come to: subjects, the rules that concern them, every circumstance that counts."""
