-- What lies in a bin is found by what empties or puts back alone.

-- name: ListProjects :many
SELECT * FROM projects WHERE bin_of IS NULL ORDER BY id;

-- name: GetProject :one
SELECT * FROM projects WHERE id = ? AND bin_of IS NULL;

-- name: Tallies :many
-- Of the projects whose ids lie in a range.
SELECT p.id, p.name, p.version,
  (SELECT COUNT(*) FROM sources x WHERE x.project_id = p.id) AS sources,
  CAST((SELECT COALESCE(SUM(x.entry_count), 0) FROM sources x WHERE x.project_id = p.id) AS SIGNED) AS entries,
  (SELECT COUNT(*) FROM sources x WHERE x.project_id = p.id AND (x.state = 'failed' OR JSON_LENGTH(x.problems) > 0)) AS source_problems,
  (SELECT COUNT(*) FROM finds x WHERE x.project_id = p.id) AS finds,
  (SELECT COUNT(*) FROM finds x WHERE x.project_id = p.id AND (x.missing > 0 OR x.state = 'failed')) AS incomplete,
  (SELECT COUNT(*) FROM chains x WHERE x.project_id = p.id) AS chains,
  (SELECT COUNT(*) FROM deliveries x WHERE x.project_id = p.id) AS deliveries
FROM projects p WHERE p.bin_of IS NULL AND p.id >= sqlc.arg(first) AND p.id <= sqlc.arg(last) ORDER BY p.id;

-- name: CreateProject :execlastid
INSERT INTO projects (name) VALUES (?);

-- name: TouchProject :exec
UPDATE projects SET version = version + 1 WHERE id = ?;

-- name: ListSources :many
SELECT * FROM sources WHERE project_id = ? ORDER BY position, id;

-- name: GetSource :one
SELECT * FROM sources WHERE sources.id = ? AND sources.project_id NOT IN (SELECT p.id FROM projects p WHERE p.bin_of IS NOT NULL);

-- name: LockSource :one
SELECT sources.id FROM sources WHERE sources.id = ? AND sources.project_id NOT IN (SELECT p.id FROM projects p WHERE p.bin_of IS NOT NULL) FOR UPDATE;

-- name: CreateSource :execlastid
INSERT INTO sources (project_id, position, path, label, parent_id, inside, origin, rights, error, problems, terms)
SELECT sqlc.arg(project_id), COALESCE(MAX(s.position), 0) + 1, sqlc.arg(path), sqlc.arg(label), sqlc.arg(parent_id), sqlc.arg(inside), sqlc.arg(origin), sqlc.arg(rights), '', '[]', ''
FROM sources s WHERE s.project_id = sqlc.arg(project_id);

-- name: SourceIndexed :exec
UPDATE sources SET state = 'ready', error = '', format = ?, is_layout = ?, size = ?, entry_count = ?, problems = ?, remarks = ?, terms = ?, stamp = ?,
  next_slot = ?, kinds_known = FALSE, links_known = FALSE, generation = generation + 1, rev = rev + 1 WHERE id = ?;

-- name: SourceIndexing :exec
UPDATE sources SET state = IF(state = 'failed', 'indexing', state), error = '' WHERE id = ?;

-- name: SourceKinds :exec
UPDATE sources SET kinds_known = TRUE, rights = ?, rev = rev + 1 WHERE id = ?;

-- name: SourceLinks :exec
UPDATE sources SET links_known = TRUE, rev = rev + 1 WHERE id = ?;

-- name: RaiseRev :exec
UPDATE sources SET rev = rev + 1 WHERE id = ?;

-- name: SetRights :exec
UPDATE sources SET rights = ? WHERE id = ?;

-- name: SourceFailed :exec
UPDATE sources SET state = 'failed', error = ? WHERE id = ?;

-- name: SetSourcePosition :exec
UPDATE sources SET position = ? WHERE id = ? AND project_id = ?;

-- name: DeleteSource :exec
DELETE FROM sources WHERE id = ?;

-- name: DeleteEntries :exec
DELETE FROM entries WHERE source_id = ?;

-- name: GetEntry :one
SELECT * FROM entries WHERE source_id = ? AND slot = ?;

-- name: EntryByPath :one
SELECT * FROM entries WHERE source_id = ? AND path = ? LIMIT 1;

-- name: DeleteRefs :exec
DELETE FROM entry_refs WHERE source_id = ?;

-- name: SourceRefs :many
SELECT slot, ref, role FROM entry_refs WHERE source_id = ? ORDER BY slot, no;

-- name: ListPins :many
SELECT * FROM pins WHERE project_id = ? ORDER BY ref;

-- name: PutPin :exec
INSERT INTO pins (project_id, ref, source_label, entry_path) VALUES (?, ?, ?, ?)
ON DUPLICATE KEY UPDATE source_label = VALUES(source_label), entry_path = VALUES(entry_path);

-- name: DeletePin :execrows
DELETE FROM pins WHERE project_id = ? AND ref = ?;

-- name: GetRules :one
SELECT rules FROM name_rules WHERE project_id = ?;

-- name: PutRules :exec
INSERT INTO name_rules (project_id, rules) VALUES (?, ?) ON DUPLICATE KEY UPDATE rules = VALUES(rules);

-- name: PutSelection :exec
INSERT IGNORE INTO selections (project_id, digest, spec) VALUES (?, ?, ?);

-- name: GetSelection :one
SELECT spec FROM selections WHERE project_id = ? AND digest = ?;

-- name: CreateExtraction :execlastid
INSERT INTO extractions (project_id, title, dest, form, policy, entries, bytes, error) VALUES (?, ?, ?, ?, ?, ?, ?, '');

-- name: GetExtraction :one
SELECT * FROM extractions WHERE id = ?;

-- name: ListExtractions :many
SELECT * FROM extractions WHERE project_id = ? ORDER BY id DESC LIMIT 50;

-- name: ExtractionState :exec
UPDATE extractions SET state = ?, error = ?, summary = ? WHERE id = ?;

-- name: PutDevice :exec
INSERT INTO devices (project_id, address, kind, name, token) VALUES (?, ?, ?, ?, ?)
ON DUPLICATE KEY UPDATE kind = VALUES(kind), name = VALUES(name), token = VALUES(token);

-- name: ListDevices :many
SELECT * FROM devices WHERE project_id = ? ORDER BY id;

-- name: GetDevice :one
SELECT * FROM devices WHERE id = ?;

-- name: DeviceByAddress :one
SELECT * FROM devices WHERE project_id = ? AND address = ?;

-- name: DeleteDevice :exec
DELETE FROM devices WHERE id = ?;

-- name: ListFinds :many
SELECT * FROM finds WHERE project_id = ? ORDER BY id;

-- name: GetFind :one
SELECT * FROM finds WHERE finds.id = ? AND finds.project_id NOT IN (SELECT p.id FROM projects p WHERE p.bin_of IS NOT NULL);

-- name: FindOfEntry :one
SELECT * FROM finds WHERE project_id = ? AND source_id = ? AND entry_path = ? LIMIT 1;

-- name: FindPlaces :many
SELECT id, source_id, entry_path, state FROM finds WHERE project_id = ? AND source_id IS NOT NULL;

-- name: CreateFind :execlastid
INSERT INTO finds (project_id, source_id, source_label, entry_path, name) VALUES (?, ?, ?, ?, ?);

-- name: AskFind :exec
UPDATE finds SET asked = asked + 1 WHERE id = ?;

-- name: FindReady :execrows
UPDATE finds SET state = 'ready', error = 'null', scene = ?, missing = ?, model = ?, name = ? WHERE id = ? AND asked = ?;

-- name: FindFailed :exec
UPDATE finds SET state = 'failed', error = ? WHERE id = ? AND asked = ?;

-- name: ReadyFinds :many
SELECT id FROM finds WHERE project_id = ? AND source_id IS NOT NULL;

-- name: DeleteFind :exec
DELETE FROM finds WHERE id = ?;

-- name: IncompleteFinds :many
SELECT id FROM finds WHERE project_id = ? AND (missing > 0 OR state = 'failed') AND source_id IS NOT NULL;

-- name: ListChains :many
SELECT * FROM chains WHERE project_id = ? ORDER BY id;

-- name: ChainsWithSteps :many
SELECT sqlc.embed(c), r.steps, CAST((SELECT COALESCE(MAX(x.no), 0) FROM chain_revisions x WHERE x.chain_id = c.id) AS SIGNED) AS last
FROM chains c JOIN chain_revisions r ON r.chain_id = c.id AND r.no = c.head WHERE c.project_id = ? ORDER BY c.id;

-- name: NewestChain :one
-- Of a project; the one of an id, if it is in the project.
SELECT * FROM chains WHERE project_id = ? ORDER BY id = sqlc.arg(wanted) DESC, id DESC LIMIT 1;

-- name: FindsOfChains :many
SELECT id, find_id FROM chains WHERE project_id = ? ORDER BY id;

-- name: ChainsOfFind :many
SELECT id FROM chains WHERE find_id = ? ORDER BY id;

-- name: GetChain :one
SELECT * FROM chains WHERE chains.id = ? AND chains.project_id NOT IN (SELECT p.id FROM projects p WHERE p.bin_of IS NOT NULL);

-- name: LockChain :one
SELECT * FROM chains WHERE chains.id = ? AND chains.project_id NOT IN (SELECT p.id FROM projects p WHERE p.bin_of IS NOT NULL) FOR UPDATE;

-- name: CreateChain :execlastid
INSERT INTO chains (project_id, find_id, name, target) VALUES (?, ?, ?, ?);

-- name: PatchChain :exec
UPDATE chains SET name = ?, target = ? WHERE id = ?;

-- name: SetHead :exec
UPDATE chains SET head = ? WHERE id = ?;

-- name: GetRevision :one
SELECT steps FROM chain_revisions WHERE chain_id = ? AND no = ?;

-- name: LastRevision :one
SELECT CAST(COALESCE(MAX(no), 0) AS SIGNED) FROM chain_revisions WHERE chain_id = ?;

-- name: DropRevisionsAfter :exec
DELETE FROM chain_revisions WHERE chain_id = ? AND no > ?;

-- name: AddRevision :exec
INSERT INTO chain_revisions (chain_id, no, steps) VALUES (?, ?, ?);

-- name: GetResult :one
SELECT * FROM results WHERE cache_key = ?;

-- name: PutResult :exec
INSERT INTO results (cache_key, scene, report, stats, basis, seconds, error) VALUES (?, ?, ?, ?, ?, ?, ?)
ON DUPLICATE KEY UPDATE scene = VALUES(scene), report = VALUES(report), stats = VALUES(stats), basis = VALUES(basis), seconds = VALUES(seconds), error = VALUES(error);

-- name: ListDeliveries :many
SELECT * FROM deliveries WHERE project_id = ? ORDER BY id DESC;

-- name: GetDelivery :one
SELECT * FROM deliveries WHERE deliveries.id = ? AND deliveries.project_id NOT IN (SELECT p.id FROM projects p WHERE p.bin_of IS NOT NULL);

-- name: CreateDelivery :execlastid
INSERT INTO deliveries (project_id, chain_id, name, error, purpose, options, despite, also) VALUES (?, ?, ?, '', ?, ?, ?, ?);

-- name: DeliveryReady :exec
UPDATE deliveries SET state = 'ready', file = ?, size = ?, manifest = ?, also = ? WHERE id = ?;

-- name: DeliverySent :exec
UPDATE deliveries SET sent = ? WHERE id = ?;

-- name: DeliveryFile :exec
UPDATE deliveries SET file = ?, size = ? WHERE id = ?;

-- name: ListSheets :many
SELECT s.id, s.slug, s.head, v.doc, v.made FROM sheets s JOIN sheet_versions v ON v.sheet_id = s.id AND v.no = s.head WHERE NOT s.gone ORDER BY s.slug;

-- name: GetSheet :one
SELECT s.id, s.slug, s.head, v.doc, v.made FROM sheets s JOIN sheet_versions v ON v.sheet_id = s.id AND v.no = s.head WHERE s.slug = ? AND NOT s.gone;

-- name: LockSheet :one
SELECT * FROM sheets WHERE slug = ? FOR UPDATE;

-- name: CreateSheet :execlastid
INSERT INTO sheets (slug) VALUES (?);

-- name: AddSheetVersion :exec
INSERT INTO sheet_versions (sheet_id, no, doc) VALUES (?, ?, ?);

-- name: SetSheet :exec
UPDATE sheets SET head = ?, gone = ? WHERE id = ?;

-- name: SheetVersions :many
SELECT no, made FROM sheet_versions WHERE sheet_id = ? ORDER BY no DESC;

-- name: SheetVersion :one
SELECT doc FROM sheet_versions WHERE sheet_id = ? AND no = ?;

-- name: DeliveryFailed :exec
UPDATE deliveries SET state = 'failed', error = ? WHERE id = ?;

-- name: AddJob :execlastid
INSERT INTO jobs (project_id, kind, title, args, error) VALUES (?, ?, ?, ?, '');

-- name: PendingJob :one
SELECT id FROM jobs WHERE project_id = ? AND kind = ? AND args = ? AND state = 'queued' LIMIT 1;

-- name: NextJob :one
SELECT * FROM jobs
WHERE state = 'queued' OR (state = 'running' AND lease_until < CURRENT_TIMESTAMP(3))
ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED;

-- name: StartJob :exec
UPDATE jobs SET state = 'running', worker = ?, attempts = attempts + 1, started = CURRENT_TIMESTAMP(3), done = 0, total = 0, bytes = 0, bytes_total = 0,
  lease_until = CURRENT_TIMESTAMP(3) + INTERVAL 15 SECOND WHERE id = ?;

-- name: BeatJob :execrows
UPDATE jobs SET done = ?, total = ?, unit = ?, bytes = ?, bytes_total = ?, lease_until = CURRENT_TIMESTAMP(3) + INTERVAL 15 SECOND
WHERE id = ? AND worker = ? AND state = 'running' AND cancel = FALSE;

-- name: EndJob :exec
UPDATE jobs SET state = ?, error = ?, ended = CURRENT_TIMESTAMP(3), lease_until = NULL WHERE id = ? AND worker = ? AND state = 'running';

-- name: GiveBackJob :exec
UPDATE jobs SET state = 'queued', worker = '', attempts = attempts - 1, lease_until = NULL WHERE id = ? AND worker = ?;

-- name: ReturnJob :exec
UPDATE jobs SET state = 'queued', worker = '', lease_until = NULL WHERE id = ? AND worker = ? AND state = 'running';

-- name: RunningJobs :many
SELECT id, kind, worker FROM jobs WHERE state = 'running';

-- name: CountReading :one
SELECT COUNT(*) FROM jobs WHERE project_id = ? AND kind = 'index' AND state IN ('queued', 'running');

-- name: CountUnderWay :one
SELECT COUNT(*) FROM jobs WHERE project_id = ? AND state IN ('queued', 'running');

-- name: CancelJob :exec
UPDATE jobs SET cancel = TRUE, state = IF(state = 'queued', 'cancelled', state), ended = IF(state = 'queued', CURRENT_TIMESTAMP(3), ended) WHERE id = ?;

-- name: GetJob :one
SELECT * FROM jobs WHERE id = ?;

-- name: RecentJobs :many
SELECT * FROM jobs WHERE project_id = ? AND (state IN ('queued', 'running') OR ended > CURRENT_TIMESTAMP(3) - INTERVAL 60 SECOND
  OR (state = 'failed' AND ended > CURRENT_TIMESTAMP(3) - INTERVAL 1 HOUR)) ORDER BY id DESC LIMIT 100;

-- name: BusyJobs :one
SELECT COUNT(*) FROM jobs WHERE project_id = ? AND kind = ? AND args = ? AND state IN ('queued', 'running');

-- name: ForgetJobs :exec
DELETE FROM jobs WHERE state IN ('done', 'failed', 'cancelled') AND ended < CURRENT_TIMESTAMP(3) - INTERVAL 1 DAY;

-- name: ListLayouts :many
SELECT * FROM layouts WHERE project_id = ? ORDER BY name;

-- name: LayoutsWithText :many
SELECT sqlc.embed(l), COALESCE(v.doc, '') AS doc FROM layouts l
LEFT JOIN layout_versions v ON v.layout_id = l.id AND v.no = GREATEST(l.good, 1) WHERE l.project_id = ? ORDER BY l.name;

-- name: GoodLayouts :many
SELECT l.id, l.name, l.good, v.doc FROM layouts l JOIN layout_versions v ON v.layout_id = l.id AND v.no = l.good WHERE l.project_id = ? ORDER BY l.name;

-- name: GetLayout :one
SELECT * FROM layouts WHERE layouts.id = ? AND layouts.project_id NOT IN (SELECT p.id FROM projects p WHERE p.bin_of IS NOT NULL);

-- name: LockLayout :one
SELECT * FROM layouts WHERE layouts.id = ? AND layouts.project_id NOT IN (SELECT p.id FROM projects p WHERE p.bin_of IS NOT NULL) FOR UPDATE;

-- name: LayoutNamed :one
SELECT * FROM layouts WHERE project_id = ? AND name = ?;

-- name: CreateLayout :execlastid
INSERT INTO layouts (project_id, name) VALUES (?, ?);

-- name: LayoutHead :exec
UPDATE layouts SET head = ?, good = ? WHERE id = ?;

-- name: LayoutCoverage :exec
UPDATE layouts SET coverage = ? WHERE id = ?;

-- name: DeleteLayout :exec
DELETE FROM layouts WHERE id = ?;

-- name: AddLayoutVersion :exec
INSERT INTO layout_versions (layout_id, no, doc) VALUES (?, ?, ?);

-- name: LayoutVersions :many
SELECT no, made FROM layout_versions WHERE layout_id = ? ORDER BY no DESC LIMIT 200;

-- name: LayoutVersion :one
SELECT doc FROM layout_versions WHERE layout_id = ? AND no = ?;

-- name: ListBookmarks :many
SELECT id, off, size, note FROM bookmarks WHERE source_id = ? AND slot = ? ORDER BY off, id;

-- name: AddBookmark :execlastid
INSERT INTO bookmarks (source_id, slot, off, size, note) VALUES (?, ?, ?, ?, ?);

-- name: DeleteBookmark :execrows
DELETE FROM bookmarks WHERE id = ? AND source_id = ? AND slot = ?;

-- name: FindReadings :exec
UPDATE finds SET readings = ? WHERE id = ?;

-- name: FindBasis :exec
UPDATE finds SET basis = ? WHERE id = ?;

-- name: IdleSources :many
SELECT s.id, s.project_id FROM sources s WHERE (s.state = 'indexing' OR (s.state = 'ready' AND s.kinds_known = FALSE))
  AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.project_id = s.project_id AND j.kind = 'index' AND j.state IN ('queued', 'running'));

-- name: IdleFinds :many
SELECT f.id, f.project_id FROM finds f WHERE f.state = 'decoding'
  AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.project_id = f.project_id AND j.state IN ('queued', 'running')
    AND (j.kind = 'findall' OR (j.kind = 'decode' AND j.args = CONCAT('{"id":', f.id, '}'))));

-- name: IdleExtractions :many
SELECT e.id, e.project_id FROM extractions e WHERE e.state IN ('waiting', 'running')
  AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.project_id = e.project_id AND j.kind = 'extract' AND j.state IN ('queued', 'running') AND j.args = CONCAT('{"id":', e.id, '}'));

-- name: IdleDeliveries :many
SELECT d.id, d.project_id FROM deliveries d WHERE d.state = 'making'
  AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.project_id = d.project_id AND j.kind = 'deliver' AND j.state IN ('queued', 'running') AND j.args = CONCAT('{"id":', d.id, '}'));

-- name: IdleSends :many
SELECT d.id, d.project_id FROM deliveries d WHERE d.state <> 'making' AND JSON_VALUE(d.sent, '$.state') IN ('waiting', 'sending')
  AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.project_id = d.project_id AND j.kind = 'send' AND j.state IN ('queued', 'running') AND JSON_VALUE(j.args, '$.id') = d.id);

-- name: WhyEnded :one
SELECT error FROM jobs WHERE project_id = ? AND kind = ? AND JSON_VALUE(args, '$.id') = CAST(sqlc.arg(id) AS SIGNED) AND state IN ('failed', 'cancelled') ORDER BY id DESC LIMIT 1;

-- name: StopSource :execrows
UPDATE sources SET state = 'failed', error = ? WHERE id = ? AND (state = 'indexing' OR (state = 'ready' AND kinds_known = FALSE));

-- name: SourcesWithin :many
SELECT id FROM sources WHERE parent_id = ?;

-- name: StopFind :execrows
UPDATE finds SET state = 'stopped', error = ? WHERE id = ? AND state = 'decoding';

-- name: DecodingFinds :many
SELECT id FROM finds WHERE project_id = ? AND state = 'decoding';

-- name: BeginFind :exec
UPDATE finds SET state = 'decoding', error = 'null' WHERE id = ? AND state IN ('failed', 'stopped');

-- name: StopExtraction :execrows
UPDATE extractions SET state = ?, error = ? WHERE id = ? AND state IN ('waiting', 'running');

-- name: StopDelivery :execrows
UPDATE deliveries SET state = 'failed', error = ? WHERE id = ? AND state = 'making';

-- name: DevicesWithTokens :many
SELECT id, token FROM devices WHERE token <> '';

-- name: ForgetToken :exec
UPDATE devices SET token = '' WHERE id = ?;

-- name: FindModel :exec
UPDATE finds SET model = ? WHERE id = ?;

-- name: LayoutDraft :exec
UPDATE layouts SET draft = ?, draft_base = ? WHERE id = ?;

-- name: FindBin :one
SELECT id FROM projects WHERE bin_of = ?;

-- name: CreateBin :execlastid
INSERT INTO projects (name, bin_of) VALUES ('', ?);

-- name: MoveSource :exec
UPDATE sources SET project_id = ? WHERE id = ?;

-- name: MoveFind :exec
UPDATE finds SET project_id = ? WHERE id = ?;

-- name: MoveChains :exec
UPDATE chains SET project_id = ? WHERE find_id = ?;

-- name: MoveDeliveries :exec
UPDATE deliveries SET project_id = ? WHERE chain_id IN (SELECT id FROM chains WHERE find_id = ?);

-- name: MoveLayout :exec
UPDATE layouts SET project_id = ?, name = ? WHERE id = ?;

-- name: DeliveriesOfFind :one
SELECT COUNT(*) FROM deliveries WHERE chain_id IN (SELECT id FROM chains WHERE find_id = ?);

-- name: BookmarksOfSource :one
SELECT COUNT(*) FROM bookmarks WHERE source_id = ?;

-- name: FindsOfSource :many
SELECT id FROM finds WHERE source_id = ? ORDER BY id;

-- name: SetFindSource :exec
UPDATE finds SET source_id = ? WHERE id = ?;

-- name: AddTaken :execlastid
INSERT INTO taken_out (project_id, kind, thing_id, name, also, finds) VALUES (?, ?, ?, ?, ?, ?);

-- name: ListTaken :many
SELECT * FROM taken_out WHERE project_id = ? ORDER BY id DESC LIMIT 50;

-- name: LockTaken :one
SELECT * FROM taken_out WHERE id = ? AND project_id = ? FOR UPDATE;

-- name: OldTaken :many
SELECT * FROM taken_out WHERE made < CURRENT_TIMESTAMP(3) - INTERVAL 1 DAY;

-- name: DropTaken :exec
DELETE FROM taken_out WHERE id = ?;

-- name: AnySource :one
SELECT * FROM sources WHERE id = ?;

-- name: LockProject :one
SELECT id FROM projects WHERE id = ? FOR UPDATE;

-- name: RenameProject :execrows
UPDATE projects SET name = sqlc.arg(new_name), version = version + 1 WHERE id = ? AND bin_of IS NULL;

-- name: DeleteProject :execrows
DELETE FROM projects WHERE id = ? AND bin_of IS NULL;

-- name: SourcePathsOf :many
SELECT DISTINCT s.path FROM sources s JOIN projects p ON p.id = s.project_id WHERE p.id = ? OR p.bin_of = ?;

-- name: BookmarksOfProject :many
SELECT b.source_id, e.path, b.off, b.size, b.note FROM bookmarks b
JOIN sources s ON s.id = b.source_id
JOIN entries e ON e.source_id = b.source_id AND e.slot = b.slot
WHERE s.project_id = ? ORDER BY b.id;

-- name: BookmarkToCome :exec
INSERT INTO bookmarks_to_come (source_id, path, off, size, note) VALUES (?, ?, ?, ?, ?);

-- name: BookmarksHaveCome :exec
INSERT INTO bookmarks (source_id, slot, off, size, note)
SELECT c.source_id, e.slot, c.off, c.size, c.note FROM bookmarks_to_come c
JOIN entries e ON e.source_id = c.source_id AND e.path = c.path WHERE c.source_id = ?;

-- name: DropToCome :exec
DELETE FROM bookmarks_to_come WHERE source_id = ?;

-- name: BringFind :execlastid
INSERT INTO finds (project_id, source_id, source_label, entry_path, name, readings, basis) VALUES (?, ?, ?, ?, ?, ?, ?);

-- name: CopyDecoded :exec
UPDATE finds f JOIN finds o SET f.state = o.state, f.error = o.error, f.scene = o.scene, f.missing = o.missing, f.model = o.model
WHERE f.id = sqlc.arg(made) AND o.id = sqlc.arg(original) AND o.state = 'ready';

-- name: ChainsFromChains :many
SELECT c.id, c.name, r.steps FROM chains c JOIN chain_revisions r ON r.chain_id = c.id AND r.no = c.head
WHERE c.project_id = ? AND r.steps LIKE '%"chain:%' ORDER BY c.id;
