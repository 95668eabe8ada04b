-- When reports are made, and where they go.
create table dispatch (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);

-- Since when a dispatch makes reports by itself, and until when its times have been gone through.
create table dispatch_mark (
    dispatch uuid primary key,
    since bigint not null,
    until bigint not null
);

-- What dispatches set off. The edition that is made has the same identity.
create table dispatch_run (
    id uuid primary key,
    dispatch uuid not null,
    name text not null,
    report uuid not null,
    at bigint not null,
    by text not null,
    from_ns bigint not null,
    to_ns bigint not null,
    attempts integer not null default 0,
    next_at bigint,
    made_at bigint,
    answer text not null default '',
    unique (dispatch, at)
);
create index dispatch_run_report on dispatch_run (report, at);
create index dispatch_run_at on dispatch_run (at);
create index dispatch_run_open on dispatch_run (next_at) where next_at is not null;

-- Where each of them goes, and what came of it.
create table dispatch_delivery (
    id uuid primary key,
    run uuid not null references dispatch_run on delete cascade,
    position integer not null,
    connection uuid not null,
    to_whom text not null,
    file text not null,
    formats text[] not null,
    attempts integer not null default 0,
    next_at bigint,
    sent_at bigint,
    answer text not null default '',
    bytes bigint not null default 0,
    took_ms bigint not null default 0
);
create index dispatch_delivery_run on dispatch_delivery (run, position);
create index dispatch_delivery_open on dispatch_delivery (next_at) where next_at is not null;

-- The same edition for programs. Empty where it was made before there was such a thing.
alter table edition add column json text not null default '';
alter table edition add column xlsx bytea not null default '';
