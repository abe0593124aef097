-- +goose Up
-- A computer that several people use asks devices for this visit only.
ALTER TABLE host ADD COLUMN shared INTEGER NOT NULL DEFAULT 0;
-- How far a device that is being put away has come, as JSON; '' for one that is not.
ALTER TABLE device ADD COLUMN retirement TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE host DROP COLUMN shared;
ALTER TABLE device DROP COLUMN retirement;
