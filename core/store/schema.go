package store

// migrations bring a record forward, one version each. Version n is reached by
// the first n; none is ever edited.
var migrations = []string{`
CREATE TABLE machine (id TEXT PRIMARY KEY, name TEXT NOT NULL, os TEXT NOT NULL, version TEXT NOT NULL);
CREATE TABLE blob (digest BLOB PRIMARY KEY, size INTEGER NOT NULL, data BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE snapshot (id INTEGER PRIMARY KEY AUTOINCREMENT, machine TEXT NOT NULL REFERENCES machine, time TEXT NOT NULL,
	message TEXT NOT NULL, enabled INTEGER NOT NULL, disabled INTEGER NOT NULL, manifest BLOB NOT NULL REFERENCES blob);
CREATE TABLE change (id INTEGER PRIMARY KEY AUTOINCREMENT, machine TEXT NOT NULL REFERENCES machine, time TEXT NOT NULL,
	kind TEXT NOT NULL, message TEXT NOT NULL, snapshot INTEGER REFERENCES snapshot, entries INTEGER NOT NULL, state TEXT NOT NULL,
	undoes INTEGER REFERENCES change);
CREATE TABLE step (change INTEGER NOT NULL REFERENCES change, seq INTEGER NOT NULL, handles TEXT NOT NULL,
	kind TEXT NOT NULL, artifact BLOB NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL, PRIMARY KEY (change, seq)) WITHOUT ROWID;
CREATE TABLE folder (change INTEGER NOT NULL REFERENCES change, artifact BLOB NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL,
	PRIMARY KEY (change, artifact)) WITHOUT ROWID;
`, `
ALTER TABLE snapshot ADD COLUMN system TEXT NOT NULL DEFAULT '';
ALTER TABLE change ADD COLUMN token TEXT NOT NULL DEFAULT '';
ALTER TABLE change ADD COLUMN root TEXT NOT NULL DEFAULT '';
ALTER TABLE change ADD COLUMN host TEXT NOT NULL DEFAULT '';
`, `
-- Contents by a number of their own: in a table without one, looking a digest up reads every
-- content on the way to it, and some are megabytes long.
CREATE TABLE blob3 (id INTEGER PRIMARY KEY, digest BLOB NOT NULL UNIQUE, size INTEGER NOT NULL, data BLOB NOT NULL);
INSERT INTO blob3 (digest, size, data) SELECT digest, size, data FROM blob;
CREATE TABLE snapshot3 (id INTEGER PRIMARY KEY AUTOINCREMENT, machine TEXT NOT NULL REFERENCES machine, time TEXT NOT NULL,
	message TEXT NOT NULL, enabled INTEGER NOT NULL, disabled INTEGER NOT NULL, manifest BLOB NOT NULL REFERENCES blob (digest),
	system TEXT NOT NULL);
INSERT INTO snapshot3 SELECT id, machine, time, message, enabled, disabled, manifest, system FROM snapshot;
DROP TABLE snapshot;
DROP TABLE blob;
ALTER TABLE blob3 RENAME TO blob;
ALTER TABLE snapshot3 RENAME TO snapshot;
-- The kinds of a step's images, so that no query looks into their text.
ALTER TABLE step ADD COLUMN before_kind TEXT NOT NULL DEFAULT '';
ALTER TABLE step ADD COLUMN after_kind TEXT NOT NULL DEFAULT '';
UPDATE step SET before_kind = CASE WHEN json_valid(before) THEN coalesce(json_extract(before, '$.kind'), '') ELSE '' END,
	after_kind = CASE WHEN json_valid(after) THEN coalesce(json_extract(after, '$.kind'), '') ELSE '' END;
`, `
-- What was found of programs: it can be found again, so nothing refers to it.
CREATE TABLE program (machine TEXT NOT NULL, name TEXT NOT NULL, key TEXT NOT NULL, evidence BLOB NOT NULL, PRIMARY KEY (machine, name)) WITHOUT ROWID;
`, `
-- What technicians know: notes, catalogues of their own, on which machines programs were seen, and reviews that were begun.
CREATE TABLE note (id INTEGER PRIMARY KEY AUTOINCREMENT, of TEXT NOT NULL UNIQUE, program TEXT NOT NULL, machine TEXT NOT NULL, handle TEXT NOT NULL,
	name TEXT NOT NULL, verdict TEXT NOT NULL, role TEXT NOT NULL, text TEXT NOT NULL, author TEXT NOT NULL, time TEXT NOT NULL, private INTEGER NOT NULL);
CREATE TABLE catalogue (name TEXT PRIMARY KEY, position INTEGER NOT NULL, text BLOB NOT NULL, time TEXT NOT NULL);
CREATE TABLE seen (program TEXT NOT NULL, machine TEXT NOT NULL, enabled INTEGER NOT NULL, disabled INTEGER NOT NULL, time TEXT NOT NULL,
	PRIMARY KEY (program, machine)) WITHOUT ROWID;
CREATE INDEX seen_on ON seen (machine);
CREATE TABLE review (machine TEXT PRIMARY KEY, words TEXT NOT NULL, whole INTEGER NOT NULL, at TEXT NOT NULL, begun TEXT NOT NULL);
CREATE TABLE decision (machine TEXT NOT NULL, handle TEXT NOT NULL, decision TEXT NOT NULL, PRIMARY KEY (machine, handle)) WITHOUT ROWID;
`, `
-- How long changes are tried, when that was ended, and how they left their entries; and searches for a culprit that were begun.
ALTER TABLE change ADD COLUMN trial INTEGER NOT NULL DEFAULT 14;
ALTER TABLE change ADD COLUMN kept TEXT NOT NULL DEFAULT '';
CREATE TABLE outcome (change INTEGER NOT NULL REFERENCES change, state TEXT NOT NULL, handles TEXT NOT NULL, PRIMARY KEY (change, state)) WITHOUT ROWID;
CREATE TABLE search (machine TEXT PRIMARY KEY, state TEXT NOT NULL) WITHOUT ROWID;
`, `
-- In which start of the system a snapshot was taken.
ALTER TABLE snapshot ADD COLUMN boot TEXT NOT NULL DEFAULT '';
`, `
-- By what a machine is told from others that were made from the same image.
CREATE TABLE mark (machine TEXT NOT NULL, kind TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (machine, kind, value)) WITHOUT ROWID;
`}

// schemas are the digests of the schema of each version, as schemaDigest makes them. A
// record with anything else in it, a trigger or a view for example, is no record:
// it could let a write succeed and keep nothing.
var schemas = []string{"", "923f6c958e9cce62b6c9d312f33279a8", "db7c742182f575d4b6f3ddf6d56e63fb",
	"9576e690ceca9e755820529b8dd204a1", "e97a9c8c833970b38bf83eb5e2769eae", "43da981e4b95d0c2721a09c5c8737a39",
	"d5a4a8837f734a2eb892acd569a18a93", "826dd2598cf24cf1ecb1b3c8bd6d7141", "f93cefc663a3a6809a0bbd84976af4f5"}
