-- Saltmarsh Roads, a small harbour. All of it is made up.
PRAGMA journal_mode = WAL;
CREATE TABLE vessels (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  kind TEXT NOT NULL,
  length_m REAL NOT NULL,
  agency TEXT NOT NULL
);
CREATE TABLE berths (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  quay TEXT NOT NULL,
  max_length_m REAL NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('free', 'held', 'occupied'))
);
CREATE TABLE calls (
  id INTEGER PRIMARY KEY,
  vessel TEXT NOT NULL REFERENCES vessels (name),
  berth INTEGER REFERENCES berths (id),
  agency TEXT NOT NULL,
  status TEXT NOT NULL CHECK (status IN ('expected', 'anchored', 'inbound', 'berthed', 'departed')),
  eta TEXT NOT NULL,
  draught_m REAL,
  pilot TEXT,
  security_note TEXT
);
CREATE TABLE tug_orders (
  id INTEGER PRIMARY KEY,
  call INTEGER NOT NULL REFERENCES calls (id) ON DELETE CASCADE,
  tugs INTEGER NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('ordered', 'fast', 'done'))
);
-- Not streamed: shows what becomes of a change that nobody can hear.
CREATE TABLE dues (
  id INTEGER PRIMARY KEY,
  vessel TEXT NOT NULL,
  amount REAL NOT NULL
);
INSERT INTO vessels (name, kind, length_m, agency) VALUES
  ('Ardent Tern', 'coaster', 82.5, 'Brightwater'), ('Blue Heather', 'coaster', 88.0, 'Brightwater'),
  ('Cinder Fell', 'bulk', 139.0, 'Northlight'), ('Dove of Skerry', 'reefer', 104.2, 'Northlight'),
  ('Elder Wren', 'tanker', 118.7, 'Brightwater'), ('Fair Lantern', 'coaster', 79.9, 'Northlight'),
  ('Grey Marram', 'bulk', 151.3, 'Brightwater'), ('Hollow Oak', 'ro-ro', 126.0, 'Northlight'),
  ('Iron Sedge', 'coaster', 90.4, 'Brightwater'), ('Juniper Sound', 'tanker', 97.8, 'Northlight');
INSERT INTO berths (name, quay, max_length_m, state) VALUES
  ('Kiln 1', 'Kiln Quay', 95, 'free'), ('Kiln 2', 'Kiln Quay', 95, 'free'), ('Long Wharf', 'South Mole', 160, 'free'),
  ('Oil Dolphin', 'South Mole', 130, 'free'), ('Fish Steps', 'Old Basin', 90, 'free'),
  ('Ro-ro Ramp', 'Old Basin', 140, 'free'), ('Marsh Lay-by', 'Reedbank', 160, 'free');
