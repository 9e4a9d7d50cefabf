-- Job file, version 7: what is new or otherwise since version 6.
CREATE TABLE draft (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  parent_id INTEGER NOT NULL REFERENCES revision (id),
  merged_id INTEGER REFERENCES revision (id),
  time TEXT NOT NULL,
  touched INTEGER NOT NULL
);
CREATE TABLE draft_edit (
  draft_id INTEGER NOT NULL REFERENCES draft (id),
  position INTEGER NOT NULL,
  step INTEGER NOT NULL,
  edit TEXT NOT NULL,
  PRIMARY KEY (draft_id, position)
);
CREATE TABLE merge (
  revision_id INTEGER PRIMARY KEY REFERENCES revision (id),
  merged_id INTEGER NOT NULL REFERENCES revision (id)
);
CREATE TABLE tag (
  id INTEGER PRIMARY KEY,
  revision_id INTEGER NOT NULL REFERENCES revision (id),
  tag TEXT NOT NULL,
  state TEXT NOT NULL,
  name TEXT NOT NULL,
  reason TEXT NOT NULL,
  time TEXT NOT NULL
);
CREATE TABLE expectation (
  id INTEGER PRIMARY KEY,
  revision_id INTEGER NOT NULL REFERENCES revision (id),
  document TEXT NOT NULL,
  name TEXT NOT NULL,
  time TEXT NOT NULL
);
