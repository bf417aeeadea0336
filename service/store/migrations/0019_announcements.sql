-- What people want to be told, how, and what is to be sent.
CREATE TABLE announcement_choices (
  account TEXT NOT NULL REFERENCES accounts(name), topic TEXT NOT NULL, mail INTEGER NOT NULL DEFAULT 0, webhook INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (account, topic)
) WITHOUT ROWID;
CREATE TABLE announcement_hooks (account TEXT PRIMARY KEY REFERENCES accounts(name), url TEXT NOT NULL);
CREATE TABLE announcements (
  seq INTEGER PRIMARY KEY AUTOINCREMENT, account TEXT NOT NULL, topic TEXT NOT NULL, channel TEXT NOT NULL, title TEXT NOT NULL, text TEXT NOT NULL, path TEXT NOT NULL,
  at DATETIME NOT NULL, state TEXT NOT NULL, tries INTEGER NOT NULL DEFAULT 0, next_at DATETIME NOT NULL, fault TEXT NOT NULL DEFAULT ''
);
CREATE INDEX announcements_due ON announcements (state, next_at);
ALTER TABLE rollouts ADD COLUMN ready_told TEXT NOT NULL DEFAULT '';
