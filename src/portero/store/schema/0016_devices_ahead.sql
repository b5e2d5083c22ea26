-- Devices that hold something newer than the store has ever had are asked for with each page's first call.
CREATE INDEX device_by_applied ON device (applied_epoch, applied_revision) WHERE lifecycle = 'enrolled';
