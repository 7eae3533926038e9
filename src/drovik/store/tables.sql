-- The store's three layers (attempts, replies, answers), what was asked, and two caches.

CREATE TABLE store (              -- one row: what this store is known by, wherever its file is moved
    id TEXT NOT NULL
);

CREATE TABLE requests (           -- what was asked, in canonical form, by its digest
    identity TEXT PRIMARY KEY,
    asked    TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE asked (              -- which arm asked it, about which case
    task     TEXT NOT NULL,
    arm      TEXT NOT NULL,       -- the arm's digest
    case_id  TEXT NOT NULL,
    repeat   INTEGER NOT NULL,
    turn     INTEGER NOT NULL,    -- of the conversation, from 1
    second   INTEGER NOT NULL,    -- 1 for a repair turn, after an answer that was not valid
    name     TEXT NOT NULL,       -- the arm's name on that day
    identity TEXT NOT NULL,
    at       TEXT NOT NULL,
    PRIMARY KEY (task, arm, case_id, repeat, turn, second)
) WITHOUT ROWID;

CREATE TABLE attempts (           -- appended before a request leaves
    id       INTEGER PRIMARY KEY,
    identity TEXT NOT NULL,
    round    INTEGER NOT NULL,    -- 1, and one more each time it is asked again on purpose
    try      INTEGER NOT NULL,
    endpoint TEXT NOT NULL,
    started  TEXT NOT NULL,
    outcome  TEXT,                -- NULL while under way, and for ever where the program was killed
    concluded INTEGER NOT NULL DEFAULT 0, -- 1 where no further try follows in this round, 2 where that is so of a recheck
    seconds  REAL,
    note     TEXT,
    bound    TEXT                 -- JSON [currency, amount]: the most it may cost, where there was a limit
);
CREATE INDEX attempts_by_identity ON attempts (identity);
CREATE INDEX attempts_held ON attempts (outcome) WHERE bound IS NOT NULL;

CREATE TABLE replies (            -- as they came
    id            INTEGER PRIMARY KEY,
    attempt       INTEGER NOT NULL UNIQUE REFERENCES attempts (id),
    at            TEXT NOT NULL,
    http_status   INTEGER NOT NULL,
    body          BLOB NOT NULL,
    model         TEXT,           -- which the service itself reported
    input_tokens  INTEGER,
    output_tokens INTEGER,
    price         TEXT,           -- of that day: {"currency", "input", "output", "counters", …}
    counters      TEXT,           -- tokens counted by name: {"cached": [tokens, "input"]}
    pictures      INTEGER         -- how many went with the request, NULL where nothing is billed by request
);

CREATE TABLE answers (            -- read from replies, rebuilt at will
    task     TEXT NOT NULL,
    identity TEXT NOT NULL,
    attempt  INTEGER NOT NULL,    -- whose reply was read
    endpoint TEXT NOT NULL,       -- where that came from
    reading  TEXT NOT NULL,       -- the digest of all else that a reading depends on
    status   TEXT NOT NULL,
    how      TEXT NOT NULL,
    text     TEXT NOT NULL,
    value    TEXT NOT NULL,       -- JSON
    errors   TEXT NOT NULL,       -- JSON
    note     TEXT NOT NULL,
    model    TEXT,                -- this and what follows are of the reply: to join it to each of a million takes seconds
    input_tokens  INTEGER,
    output_tokens INTEGER,
    spent    TEXT,                -- JSON [currency, amount]
    seconds  REAL,
    PRIMARY KEY (task, identity)
) WITHOUT ROWID;

CREATE TABLE sources (            -- digests of pictures' files, while the file looks the same
    path     TEXT PRIMARY KEY,
    size     INTEGER NOT NULL,
    mtime_ns INTEGER NOT NULL,
    inode    INTEGER NOT NULL,
    digest   TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE prepared (           -- what a prep made of a source: a fact, not a part of the identity
    source TEXT NOT NULL,
    prep   TEXT NOT NULL,
    digest TEXT NOT NULL,
    places TEXT NOT NULL,         -- JSON: of each picture that was sent, its size and the maps back to the source
    PRIMARY KEY (source, prep)
) WITHOUT ROWID;

CREATE TABLE looks (              -- what a source is: format, sizes, shots (a cache)
    source TEXT NOT NULL,
    prep   TEXT NOT NULL,         -- what of a prep decides the shots
    facts  TEXT NOT NULL,         -- JSON
    PRIMARY KEY (source, prep)
) WITHOUT ROWID;

CREATE TABLE handles (            -- what a service gave for a picture that was handed to it
    key     TEXT PRIMARY KEY,     -- the digest of endpoint, step and picture
    taken   TEXT NOT NULL,        -- JSON
    expires REAL NOT NULL         -- seconds since 1970
) WITHOUT ROWID;

CREATE TABLE senders (            -- programs that send into this store now
    id   INTEGER PRIMARY KEY,
    host TEXT NOT NULL,
    pid  INTEGER NOT NULL,
    born TEXT NOT NULL,           -- when the process began, as its system tells: a number may be used again
    beat INTEGER NOT NULL         -- grows while the program lives
);

CREATE TABLE claims (             -- what they are about to ask, so that no other does
    identity TEXT PRIMARY KEY,
    sender   INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE quotes (             -- what was quoted, to be held against the bill
    id        INTEGER PRIMARY KEY,
    at        TEXT NOT NULL,
    attempt   INTEGER NOT NULL,   -- the last attempt before it
    task      TEXT NOT NULL,
    arm       TEXT NOT NULL,
    name      TEXT NOT NULL,
    requests  INTEGER NOT NULL,
    quoted    TEXT NOT NULL       -- JSON
);

CREATE TABLE held_out_looks (     -- every time that scores of held-out cases were shown
    id   INTEGER PRIMARY KEY,
    at   TEXT NOT NULL,
    task TEXT NOT NULL,
    arms TEXT NOT NULL            -- JSON: the arms whose scores were seen
);

CREATE TABLE revision (           -- one row: grows with every change of what scores are made of
    number INTEGER NOT NULL
);

CREATE TABLE judged (             -- what answers came to beside expected outputs (a cache)
    measure TEXT NOT NULL,        -- its digest
    pair    BLOB NOT NULL,        -- the digest of answer and expected output
    came_to TEXT NOT NULL,        -- JSON
    PRIMARY KEY (measure, pair)
) WITHOUT ROWID;

CREATE TABLE outputs (            -- what commands printed (a cache)
    command  TEXT PRIMARY KEY,    -- its digest
    revision INTEGER NOT NULL,    -- of the store that it read
    files    TEXT NOT NULL,       -- the digest of the files that it read
    output   TEXT NOT NULL,
    used     REAL NOT NULL
) WITHOUT ROWID
