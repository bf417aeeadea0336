-- What a laptop said that it has when it was asked for everything, settings that nothing manages included.
CREATE TABLE observations (device TEXT NOT NULL, setting TEXT NOT NULL, value TEXT NOT NULL, at DATETIME NOT NULL, PRIMARY KEY (device, setting)) WITHOUT ROWID;
