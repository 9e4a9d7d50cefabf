-- Job file, version 9: what is new or otherwise since version 8. The job sheet may hold limits of checks of its own, and
-- evidence notes of kind marker.
CREATE TABLE arrangement (
  view TEXT PRIMARY KEY,
  document TEXT NOT NULL
);
