"""The job itself: nouns, matching, resolving, insight. No I/O, no clock, no network; values in, values out."""
