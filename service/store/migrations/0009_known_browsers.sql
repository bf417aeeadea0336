-- Browsers by which somebody signed in before: their tries are counted apart from those of strangers.
CREATE TABLE known_browsers (
    hash TEXT PRIMARY KEY,
    account TEXT NOT NULL,
    created_at DATETIME NOT NULL,
    expires_at DATETIME NOT NULL
);
CREATE INDEX known_browsers_account ON known_browsers (account, created_at);
