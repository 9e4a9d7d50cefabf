"""What each view shows, as observable objects without Qt. Commands and undo live here."""
