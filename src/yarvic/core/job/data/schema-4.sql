-- Job file, version 4: what is new or otherwise since version 3.
CREATE TABLE release (
  revision_id INTEGER PRIMARY KEY REFERENCES revision (id),
  name TEXT NOT NULL,
  time TEXT NOT NULL,
  manifest_sha256 TEXT NOT NULL,
  package TEXT NOT NULL,
  manifest TEXT NOT NULL DEFAULT '',
  signature TEXT NOT NULL DEFAULT ''
);
CREATE TABLE journal (id INTEGER PRIMARY KEY, time TEXT NOT NULL, subject TEXT NOT NULL, sentence TEXT NOT NULL,
  about TEXT NOT NULL DEFAULT '[]', hash TEXT NOT NULL DEFAULT ''
);
