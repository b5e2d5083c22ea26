"""The guard: the kernel asks before every start of a program, and is answered by the rules of this machine."""
