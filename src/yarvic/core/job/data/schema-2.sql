-- Job file, version 2: what is new or otherwise since version 1.
CREATE TABLE build (number INTEGER PRIMARY KEY, title TEXT NOT NULL, time TEXT NOT NULL, fitted TEXT NOT NULL,
  event TEXT NOT NULL DEFAULT '{}'
);
