-- Job file, version 5: what is new or otherwise since version 4.
CREATE TABLE evidence (
  id TEXT PRIMARY KEY,
  title TEXT NOT NULL,
  revision_id INTEGER REFERENCES revision (id),
  build INTEGER REFERENCES build (number),
  time TEXT NOT NULL,
  source TEXT NOT NULL,
  conditions TEXT
);
CREATE TABLE evidence_note (
  id INTEGER PRIMARY KEY,
  evidence_id TEXT NOT NULL REFERENCES evidence (id),
  kind TEXT NOT NULL,
  document TEXT NOT NULL,
  time TEXT NOT NULL
);
CREATE INDEX evidence_notes ON evidence_note (evidence_id, kind);
