-- +goose Up
-- A delivery that is made although the rehearsal stops it: what stops may be
-- known only once the chain was computed.
ALTER TABLE deliveries ADD COLUMN despite BOOLEAN NOT NULL DEFAULT FALSE;

-- +goose Down
ALTER TABLE deliveries DROP COLUMN despite;
