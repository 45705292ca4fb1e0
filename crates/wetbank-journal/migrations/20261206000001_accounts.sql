-- An account is a section of the book.
CREATE TABLE section_with_accounts (
  kind     TEXT    NOT NULL CHECK (kind IN ('place', 'partner', 'account', 'calendar', 'database', 'twin', 'rule')),
  name     TEXT    NOT NULL,
  text     TEXT    NOT NULL,
  position INTEGER NOT NULL,
  version  INTEGER NOT NULL,
  is_on    INTEGER NOT NULL DEFAULT 1 CHECK (is_on IN (0, 1)),
  changed  INTEGER NOT NULL,
  PRIMARY KEY (kind, name)
) STRICT, WITHOUT ROWID;
INSERT INTO section_with_accounts (kind, name, text, position, version, is_on, changed)
SELECT kind, name, text, position, version, is_on, changed FROM section;
DROP TABLE section;
ALTER TABLE section_with_accounts RENAME TO section;

-- What an account proves itself with besides its keys: the argon2id text of a password. One that counts once lets its
-- owner choose another one and nothing else. After many wrong ones none counts until a time.
CREATE TABLE account_password (
  account  TEXT    PRIMARY KEY,
  password TEXT    NOT NULL,
  is_once  INTEGER NOT NULL CHECK (is_once IN (0, 1)),
  made     INTEGER NOT NULL,
  wrong    INTEGER NOT NULL DEFAULT 0,
  locked   INTEGER
) STRICT, WITHOUT ROWID;

-- Who came with an account, from where, and until when.
CREATE TABLE visit (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  account TEXT    NOT NULL,
  partner TEXT    NOT NULL,
  way     TEXT    NOT NULL,
  how     TEXT    NOT NULL,
  address TEXT    NOT NULL,
  agent   TEXT    NOT NULL,
  began   INTEGER NOT NULL,
  ended   INTEGER
) STRICT;
CREATE INDEX visit_by_account ON visit (account, id);
CREATE INDEX visit_open ON visit (id) WHERE ended IS NULL;
CREATE INDEX visit_by_time ON visit (began);

-- What was exchanged by accounts. A file that was handed in lies under another name until it has its own.
CREATE TABLE exchange (
  id          INTEGER PRIMARY KEY AUTOINCREMENT,
  visit       INTEGER NOT NULL,
  account     TEXT    NOT NULL,
  partner     TEXT    NOT NULL,
  what        TEXT    NOT NULL CHECK (what IN ('handed-in', 'collected', 'removed')),
  -- As the account sees it, then where it lies.
  seen        BLOB    NOT NULL,
  place       TEXT    NOT NULL,
  path        BLOB    NOT NULL,
  fingerprint TEXT    NOT NULL,
  size        INTEGER NOT NULL,
  -- BLAKE3 of the content, in hexadecimal.
  sum         TEXT,
  address     TEXT    NOT NULL,
  at          INTEGER NOT NULL,
  staged      BLOB
) STRICT;
CREATE INDEX exchange_by_account ON exchange (account, id);
CREATE INDEX exchange_by_partner ON exchange (partner, id);
CREATE INDEX exchange_by_file ON exchange (place, path, id);
CREATE INDEX exchange_by_time ON exchange (at);
CREATE INDEX exchange_staged ON exchange (id) WHERE staged IS NOT NULL;

-- Items that what was exchanged began.
CREATE TABLE exchange_item (
  exchange INTEGER NOT NULL REFERENCES exchange (id) ON DELETE CASCADE,
  item     INTEGER NOT NULL,
  PRIMARY KEY (exchange, item)
) STRICT, WITHOUT ROWID;
CREATE INDEX exchange_by_item ON exchange_item (item);

-- What waits for the rest of its visit, to be one run of a rule.
CREATE TABLE exchange_due (
  rule     TEXT    NOT NULL,
  visit    INTEGER NOT NULL,
  exchange INTEGER NOT NULL REFERENCES exchange (id) ON DELETE CASCADE,
  PRIMARY KEY (rule, visit, exchange)
) STRICT, WITHOUT ROWID;

-- What is being handed in: each lies under a name of ours until it is whole.
CREATE TABLE upload (
  place   TEXT    NOT NULL,
  staged  BLOB    NOT NULL,
  account TEXT    NOT NULL,
  seen    BLOB    NOT NULL,
  began   INTEGER NOT NULL,
  PRIMARY KEY (place, staged)
) STRICT, WITHOUT ROWID;

-- What an account does starts runs. A CHECK says nothing of what is kept, so the table is not written anew.
PRAGMA writable_schema = ON;
UPDATE sqlite_schema SET sql = replace(sql, '''signal'', ''mail''))', '''signal'', ''mail'', ''account''))')
WHERE type = 'table' AND name = 'run';
PRAGMA writable_schema = RESET;
