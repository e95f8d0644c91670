-- +goose Up
-- Further chains whose ends go into the same package, with their manifests once
-- it is made.
ALTER TABLE deliveries ADD COLUMN also JSON NOT NULL DEFAULT ('[]');

-- What a receiver said stands by asset.
UPDATE deliveries SET sent = JSON_MERGE_PATCH(sent, JSON_OBJECT('taken', JSON_ARRAY(JSON_OBJECT(
  'asset', JSON_VALUE(manifest, '$.asset'), 'seen', JSON_VALUE(sent, '$.seen'),
  'report', JSON_EXTRACT(sent, '$.report'), 'outcomes', JSON_EXTRACT(sent, '$.outcomes')))))
  WHERE JSON_VALUE(sent, '$.state') = 'taken';

-- +goose Down
UPDATE deliveries SET sent = JSON_MERGE_PATCH(sent, JSON_EXTRACT(sent, '$.taken[0]'))
  WHERE JSON_VALUE(sent, '$.state') = 'taken';
ALTER TABLE deliveries DROP COLUMN also;
