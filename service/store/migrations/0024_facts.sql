-- What laptops say of themselves, as JSON, over time: until is null for what they say now. facts_at is when a laptop was asked last.
CREATE TABLE laptop_facts (device TEXT NOT NULL, since DATETIME NOT NULL, until DATETIME, facts TEXT NOT NULL, PRIMARY KEY (device, since)) WITHOUT ROWID;
ALTER TABLE laptops ADD COLUMN facts_at DATETIME;
