-- How much activity a device handed over on a day, counted in days since 1970.
ALTER TABLE device ADD COLUMN rows_day INTEGER NOT NULL DEFAULT 0;
ALTER TABLE device ADD COLUMN rows_today INTEGER NOT NULL DEFAULT 0;

-- The last that a device said it had applied when that was what it should have: it surely was given this one.
ALTER TABLE device ADD COLUMN given_bundle TEXT;

-- The epoch of what a device says it has applied; 0 where it knows of none.
ALTER TABLE device ADD COLUMN applied_epoch INTEGER NOT NULL DEFAULT 0;

-- A generation of the directory that lost so many people that somebody is to look at it before it counts.
ALTER TABLE directory ADD COLUMN waits INTEGER NOT NULL DEFAULT 0;
ALTER TABLE directory ADD COLUMN people INTEGER NOT NULL DEFAULT 0;
ALTER TABLE directory ADD COLUMN lost INTEGER NOT NULL DEFAULT 0;
