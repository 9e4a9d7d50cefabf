-- Job file, version 6: what is new or otherwise since version 5.
CREATE TABLE carried (
  id INTEGER PRIMARY KEY,
  revision_id INTEGER NOT NULL REFERENCES revision (id),
  time TEXT NOT NULL,
  kind TEXT NOT NULL,
  name TEXT NOT NULL,
  document TEXT NOT NULL
);
