-- The moorings of Kelmere: buoys and piles in the river, one boat at each.
CREATE TABLE moorings (
  mooring TEXT PRIMARY KEY,
  reach TEXT NOT NULL,
  length_m REAL NOT NULL,
  vessel TEXT UNIQUE,
  since TEXT,
  CHECK ((vessel IS NULL) = (since IS NULL))
) STRICT;

CREATE TABLE log (
  at TEXT NOT NULL,
  mooring TEXT NOT NULL REFERENCES moorings(mooring),
  vessel TEXT NOT NULL,
  did TEXT NOT NULL CHECK (did IN ('took', 'left'))
) STRICT;
