-- Times are milliseconds since 1970, paths raw bytes, fingerprints the text of wetbank-core.

CREATE TABLE setting (
  key   TEXT PRIMARY KEY,
  value TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- What is arranged: the text is the truth, everything typed is read from it.
CREATE TABLE section (
  kind     TEXT    NOT NULL CHECK (kind IN ('place', 'partner', 'calendar', 'database', 'rule')),
  name     TEXT    NOT NULL,
  text     TEXT    NOT NULL,
  position INTEGER NOT NULL,
  version  INTEGER NOT NULL,
  is_on    INTEGER NOT NULL DEFAULT 1 CHECK (is_on IN (0, 1)),
  changed  INTEGER NOT NULL,
  PRIMARY KEY (kind, name)
) STRICT, WITHOUT ROWID;

-- Every text a section ever had; NULL text means it was removed.
CREATE TABLE version (
  id      INTEGER PRIMARY KEY,
  kind    TEXT    NOT NULL,
  name    TEXT    NOT NULL,
  version INTEGER NOT NULL,
  text    TEXT,
  at      INTEGER NOT NULL,
  who     TEXT    NOT NULL,
  UNIQUE (kind, name, version)
) STRICT;

-- How places did: a row when that changes.
CREATE TABLE place_state (
  id    INTEGER PRIMARY KEY,
  place TEXT    NOT NULL,
  at    INTEGER NOT NULL,
  state TEXT    NOT NULL CHECK (state IN ('well', 'away', 'unknown')),
  why   TEXT
) STRICT;
CREATE INDEX place_state_by_place ON place_state (place, at);

CREATE TABLE secret (
  name    TEXT PRIMARY KEY,
  sealed  BLOB    NOT NULL,
  changed INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- OpenPGP keys. The certificate is public; a secret key is sealed like any secret.
CREATE TABLE pgp_key (
  name        TEXT PRIMARY KEY,
  fingerprint TEXT    NOT NULL,
  certificate TEXT    NOT NULL,
  sealed      BLOB,
  changed     INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- The ledger: the state in which each rule last took each file. A file that went keeps its row
-- for a while, with the time it went: who looked before that time must not take it as new.
CREATE TABLE sighting (
  rule        TEXT    NOT NULL,
  place       TEXT    NOT NULL,
  path        BLOB    NOT NULL,
  fingerprint TEXT    NOT NULL,
  at          INTEGER NOT NULL,
  gone        INTEGER,
  PRIMARY KEY (rule, place, path)
) STRICT, WITHOUT ROWID;
CREATE INDEX sighting_gone ON sighting (gone) WHERE gone IS NOT NULL;

CREATE TABLE run (
  id      INTEGER PRIMARY KEY,
  rule    TEXT    NOT NULL,
  version INTEGER NOT NULL,
  cause   TEXT    NOT NULL CHECK (cause IN ('arrival', 'hand', 'schedule', 'chain', 'signal', 'mail')),
  -- What is known of it besides, as a JSON object of texts.
  about   TEXT,
  -- Why it was left out, or ended otherwise than by its items.
  why     TEXT,
  started INTEGER NOT NULL,
  ended   INTEGER,
  state   TEXT    NOT NULL CHECK (state IN ('running', 'done', 'skipped', 'held'))
) STRICT;

-- The latest time at which each rule's schedule fired: nothing before it is missed any more.
CREATE TABLE firing (
  rule TEXT PRIMARY KEY,
  at   INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX run_by_rule ON run (rule, id);
CREATE INDEX run_by_day ON run (rule, started, state);
CREATE INDEX run_by_state ON run (state, id);

CREATE TABLE item (
  id          INTEGER PRIMARY KEY,
  run         INTEGER NOT NULL REFERENCES run (id),
  rule        TEXT    NOT NULL,
  -- A file; the search for files (then the path is a folder); a file made from several of the
  -- run, or a part of one.
  kind        TEXT    NOT NULL DEFAULT 'file' CHECK (kind IN ('file', 'find', 'made', 'part')),
  place       TEXT    NOT NULL,
  path        BLOB    NOT NULL,
  fingerprint TEXT    NOT NULL,
  size        INTEGER NOT NULL,
  state       TEXT    NOT NULL
    CHECK (state IN ('queued', 'working', 'waiting', 'joining', 'done', 'skipped', 'held')),
  branch      INTEGER,
  step        INTEGER NOT NULL DEFAULT 0,
  hand        TEXT,
  failures    INTEGER NOT NULL DEFAULT 0,
  due         INTEGER,
  why         TEXT,
  depth       INTEGER NOT NULL DEFAULT 0,
  taken       INTEGER NOT NULL,
  ended       INTEGER
) STRICT;
CREATE INDEX item_by_run ON item (run);
CREATE INDEX item_open ON item (state, id) WHERE state IN ('queued', 'working', 'waiting', 'joining', 'held');
CREATE INDEX item_open_by_run ON item (run, state)
  WHERE state IN ('queued', 'working', 'waiting', 'joining', 'held');
CREATE INDEX item_ended ON item (ended) WHERE ended IS NOT NULL;

-- Files on which another rule is started, written together with what happened to them.
CREATE TABLE chained (
  id          INTEGER PRIMARY KEY,
  rule        TEXT    NOT NULL,
  version     INTEGER NOT NULL,
  place       TEXT    NOT NULL,
  path        BLOB    NOT NULL,
  fingerprint TEXT    NOT NULL,
  size        INTEGER NOT NULL,
  depth       INTEGER NOT NULL,
  about       TEXT    NOT NULL
) STRICT;

-- Mails that carry no files; the letter itself lies in the folder `outbox` under this number, which
-- is that of the attempt that wrote it.
CREATE TABLE outbox (
  id         INTEGER PRIMARY KEY,
  item       INTEGER NOT NULL,
  run        INTEGER NOT NULL,
  rule       TEXT    NOT NULL,
  place      TEXT    NOT NULL,
  recipients TEXT    NOT NULL,
  subject    TEXT    NOT NULL,
  state      TEXT    NOT NULL CHECK (state IN ('waiting', 'sent', 'refused')),
  queued     INTEGER NOT NULL,
  due        INTEGER NOT NULL,
  tries      INTEGER NOT NULL DEFAULT 0,
  why        TEXT,
  ended      INTEGER
) STRICT;
CREATE INDEX outbox_waiting ON outbox (due) WHERE state = 'waiting';

-- How many files each rule counted on a day of its zone.
CREATE TABLE counter (
  rule  TEXT    NOT NULL,
  day   TEXT    NOT NULL,
  value INTEGER NOT NULL,
  PRIMARY KEY (rule, day)
) STRICT, WITHOUT ROWID;

-- Signals of the last minutes: none counts twice.
CREATE TABLE signal (
  proof TEXT PRIMARY KEY,
  at    INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX signal_by_time ON signal (at);

-- Which items were made from which: an item that went into others rests when all of them do.
CREATE TABLE made (
  source INTEGER NOT NULL REFERENCES item (id),
  result INTEGER NOT NULL REFERENCES item (id),
  PRIMARY KEY (source, result)
) STRICT, WITHOUT ROWID;
CREATE INDEX made_by_result ON made (result);

CREATE TABLE attempt (
  id           INTEGER PRIMARY KEY,
  item         INTEGER NOT NULL REFERENCES item (id),
  step         INTEGER NOT NULL,
  kind         TEXT    NOT NULL,
  number       INTEGER NOT NULL,
  began        INTEGER NOT NULL,
  ended        INTEGER,
  outcome      TEXT    NOT NULL CHECK (outcome IN ('going', 'done', 'failed', 'skipped')),
  -- What is about to be committed, so that a restart can tell whether it was.
  intent       TEXT,
  place        TEXT,
  path         BLOB,
  size         INTEGER,
  sha256       TEXT,
  blake3       TEXT,
  code         TEXT,
  message      TEXT,
  remedy       TEXT
) STRICT;
CREATE INDEX attempt_by_item ON attempt (item, id);
CREATE INDEX attempt_going ON attempt (id) WHERE outcome = 'going';
CREATE INDEX attempt_by_sha256 ON attempt (sha256) WHERE sha256 IS NOT NULL;

CREATE TABLE hold (
  item     INTEGER PRIMARY KEY REFERENCES item (id),
  since    INTEGER NOT NULL,
  code     TEXT    NOT NULL,
  why      TEXT    NOT NULL,
  remedy   TEXT    NOT NULL
) STRICT;

-- Files that Wetbank itself wrote, so that no rule takes its own results unawares.
CREATE TABLE output (
  place       TEXT    NOT NULL,
  path        BLOB    NOT NULL,
  fingerprint TEXT    NOT NULL,
  rule        TEXT    NOT NULL,
  item        INTEGER NOT NULL,
  depth       INTEGER NOT NULL,
  PRIMARY KEY (place, path)
) STRICT, WITHOUT ROWID;

-- Names, for trace: even rowids are items, odd ones attempts (2n and 2n + 1).
CREATE VIRTUAL TABLE name_index USING fts5 (
  name, content = '', tokenize = 'trigram', detail = none
);
