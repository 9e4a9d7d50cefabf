-- Job file, version 1. Documented in docs/job-file.md; later versions change what their files name.
CREATE TABLE sheet (id INTEGER PRIMARY KEY CHECK (id = 1), document TEXT NOT NULL, layout TEXT NOT NULL);
CREATE TABLE build (number INTEGER PRIMARY KEY, title TEXT NOT NULL, time TEXT NOT NULL, fitted TEXT NOT NULL);
CREATE TABLE image (sha256 TEXT PRIMARY KEY, size INTEGER NOT NULL, data BLOB NOT NULL);
CREATE TABLE revision (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  parent_id INTEGER REFERENCES revision (id),
  reason TEXT NOT NULL CHECK (length(trim(reason)) > 0),
  author TEXT NOT NULL,
  time TEXT NOT NULL,
  image TEXT NOT NULL REFERENCES image (sha256),
  build INTEGER NOT NULL REFERENCES build (number),
  edits TEXT NOT NULL
);
CREATE TABLE draft (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  parent_id INTEGER NOT NULL REFERENCES revision (id),
  edits TEXT NOT NULL,
  time TEXT NOT NULL
);
CREATE TABLE evidence (
  id TEXT PRIMARY KEY,
  title TEXT NOT NULL,
  revision_id INTEGER NOT NULL REFERENCES revision (id),
  build INTEGER NOT NULL REFERENCES build (number),
  time TEXT NOT NULL,
  source TEXT NOT NULL,
  conditions TEXT
);
CREATE TABLE evidence_column (
  evidence_id TEXT NOT NULL REFERENCES evidence (id),
  position INTEGER NOT NULL,
  key TEXT NOT NULL,
  title TEXT NOT NULL,
  quantity TEXT NOT NULL,
  unit TEXT NOT NULL,
  time_position INTEGER,
  count INTEGER NOT NULL,
  crc32 INTEGER NOT NULL,
  data BLOB NOT NULL,
  PRIMARY KEY (evidence_id, position)
);
CREATE TABLE flash (
  id INTEGER PRIMARY KEY,
  revision_id INTEGER NOT NULL REFERENCES revision (id),
  time TEXT NOT NULL,
  unit TEXT NOT NULL,
  image TEXT NOT NULL,
  blocks INTEGER NOT NULL
);
CREATE TABLE waiver (
  id INTEGER PRIMARY KEY,
  revision_id INTEGER NOT NULL REFERENCES revision (id),
  condition TEXT NOT NULL,
  name TEXT NOT NULL CHECK (length(trim(name)) > 0),
  reason TEXT NOT NULL CHECK (length(trim(reason)) > 0),
  time TEXT NOT NULL,
  UNIQUE (revision_id, condition)
);
CREATE TABLE release (
  revision_id INTEGER PRIMARY KEY REFERENCES revision (id),
  name TEXT NOT NULL,
  time TEXT NOT NULL,
  manifest_sha256 TEXT NOT NULL,
  package TEXT NOT NULL
);
CREATE TABLE journal (id INTEGER PRIMARY KEY, time TEXT NOT NULL, subject TEXT NOT NULL, sentence TEXT NOT NULL);
CREATE INDEX evidence_by_revision ON evidence (revision_id);
