-- Job file, version 8: what is new or otherwise since version 7.
CREATE TABLE pairing (
  id INTEGER PRIMARY KEY,
  revision_id INTEGER NOT NULL REFERENCES revision (id),
  time TEXT NOT NULL,
  name TEXT NOT NULL,
  title TEXT NOT NULL,
  layout TEXT NOT NULL,
  image TEXT NOT NULL REFERENCES image (sha256)
);
