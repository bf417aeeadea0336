-- Up to which record of the audit log each place has got the records.
CREATE TABLE audit_forwards (
  place TEXT PRIMARY KEY,
  number INTEGER NOT NULL
);
