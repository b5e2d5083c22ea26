-- Starts of programs that were stopped, warned of or logged stand beside visits. A start has no host: its is empty; and
-- it has a program, as its product, file or path names it.
ALTER TABLE activity ADD COLUMN program TEXT;
