-- What arrived at a connection and became tags after a mapping, so that tags that somebody took away do not come again.
create table arrival (
    connection uuid not null references connection (id) on delete cascade,
    mapping uuid not null,
    key text not null check (octet_length(key) <= 1000),
    at timestamptz not null default clock_timestamp(),
    -- The revision that made the newest of its tags; null where it made none.
    revision bigint,
    -- Ids of tags by where they are read.
    tags jsonb not null,
    -- Places that were made for them, those above first.
    places uuid[] not null,
    -- Why it gives no tags, as a sentence.
    refused text not null,
    primary key (connection, mapping, key)
);
create index arrival_at on arrival (connection, at desc);
