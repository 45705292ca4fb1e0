-- Who may sign in to the console and the API. Times are milliseconds since 1970. What opens a door is kept as a
-- one-way sum only: of a password its argon2id text, of all others, which nobody could guess, their BLAKE3.
CREATE TABLE user (
  name      TEXT    PRIMARY KEY,
  title     TEXT    NOT NULL,
  -- A role, then what she may do besides within groups: viewer harbour=manager.
  rights    TEXT    NOT NULL,
  password  TEXT,
  -- The seed of the codes of the second factor, sealed, and the last time step whose code was used.
  seed      BLOB,
  step      INTEGER,
  -- Who she is to the provider that vouches for her: its address and its name for her.
  identity  TEXT    UNIQUE,
  made      INTEGER NOT NULL,
  seen      INTEGER
) STRICT, WITHOUT ROWID;

-- Public halves of the passkeys of users, as the library keeps them.
CREATE TABLE passkey (
  id    TEXT    PRIMARY KEY,
  user  TEXT    NOT NULL REFERENCES user (name) ON DELETE CASCADE,
  title TEXT    NOT NULL,
  key   TEXT    NOT NULL,
  made  INTEGER NOT NULL,
  used  INTEGER
) STRICT, WITHOUT ROWID;
CREATE INDEX passkey_by_user ON passkey (user);

-- Browsers that are signed in. Without a user it is whoever may read the data folder.
CREATE TABLE session (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  proof   BLOB    NOT NULL UNIQUE,
  user    TEXT    REFERENCES user (name) ON DELETE CASCADE,
  how     TEXT    NOT NULL,
  address TEXT    NOT NULL,
  agent   TEXT    NOT NULL,
  began   INTEGER NOT NULL,
  seen    INTEGER NOT NULL,
  ends    INTEGER NOT NULL
) STRICT;
CREATE INDEX session_by_user ON session (user);

-- What programs sign in with. One of a user is hers, and ends with her.
CREATE TABLE api_token (
  name  TEXT    PRIMARY KEY,
  proof BLOB    NOT NULL UNIQUE,
  user  TEXT    REFERENCES user (name) ON DELETE CASCADE,
  role  TEXT    NOT NULL CHECK (role IN ('viewer', 'operator', 'manager', 'owner')),
  maker TEXT    NOT NULL,
  made  INTEGER NOT NULL,
  ends  INTEGER,
  used  INTEGER
) STRICT, WITHOUT ROWID;

-- Links that open once.
CREATE TABLE link (
  proof BLOB    PRIMARY KEY,
  user  TEXT    REFERENCES user (name) ON DELETE CASCADE,
  ends  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- Who asked for what, written before it is done; and what came of it. One whose outcome is missing was cut short.
CREATE TABLE act (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  at      INTEGER NOT NULL,
  who     TEXT    NOT NULL,
  address TEXT    NOT NULL,
  call    TEXT    NOT NULL,
  about   TEXT    NOT NULL,
  outcome INTEGER,
  -- What of the change is worth telling besides.
  note    TEXT
) STRICT;
CREATE INDEX act_by_who ON act (who, id);
CREATE INDEX act_by_time ON act (at);
