"""Speed and memory, each figure beside a floor from the same run, since absolute times drift."""
