-- Job file, version 3: what is new or otherwise since version 2.
CREATE TABLE draft (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  parent_id INTEGER NOT NULL REFERENCES revision (id),
  edits TEXT NOT NULL DEFAULT '[]',
  time TEXT NOT NULL
);
CREATE TABLE draft_edit (position INTEGER PRIMARY KEY, step INTEGER, edit TEXT NOT NULL);
CREATE TABLE waiver (
  id INTEGER PRIMARY KEY,
  revision_id INTEGER NOT NULL REFERENCES revision (id),
  condition TEXT NOT NULL,
  name TEXT NOT NULL CHECK (length(trim(name)) > 0),
  reason TEXT NOT NULL CHECK (length(trim(reason)) > 0),
  time TEXT NOT NULL,
  finding TEXT NOT NULL DEFAULT '',
  UNIQUE (revision_id, condition)
);
