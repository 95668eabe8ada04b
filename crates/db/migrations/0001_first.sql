-- One row for the whole plant: its revision counts configuration changes without holes, in the order of their commits.
create table plant (
    only_one boolean primary key default true check (only_one),
    revision bigint not null default 0,
    node uuid not null,
    cookie_key bytea not null
);

-- Configuration. A row holds only an item's own settings; what they refer to stands beside them, checked at commit.
create table place (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null,
    parent uuid generated always as ((own ->> 'parent')::uuid) stored references place (id) deferrable initially deferred
);
create table connection (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);
create table tag (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null,
    no int not null unique check (no > 0),
    place uuid not null generated always as ((own ->> 'place')::uuid) stored references place (id) deferrable initially deferred,
    connection uuid generated always as ((own ->> 'connection')::uuid) stored references connection (id) deferrable initially deferred
);
create table rule (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null,
    tag uuid not null generated always as ((own ->> 'tag')::uuid) stored references tag (id) deferrable initially deferred
);
create table report (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);
-- Numbers of tags are never used twice.
create sequence tag_no as int;

create table revision (
    number bigint primary key,
    at timestamptz not null default clock_timestamp(),
    account uuid,
    actor text not null,
    why text not null,
    undoes bigint references revision (number)
);
create table revision_change (
    revision bigint not null references revision (number) deferrable initially deferred,
    ordinal int not null,
    kind text not null,
    item uuid not null,
    no int not null,
    before jsonb,
    after jsonb,
    primary key (revision, ordinal)
);

create table account (
    id uuid primary key,
    name text not null,
    role text not null check (role in ('viewer', 'operator', 'engineer')),
    password text not null,
    made_at timestamptz not null default clock_timestamp()
);
create unique index account_name on account (lower(name));

create table journal (
    id bigint generated always as identity primary key,
    at timestamptz not null default clock_timestamp(),
    kind text not null,
    account uuid,
    actor text not null,
    subject uuid,
    title text not null,
    detail jsonb not null
);

-- History. A tag whose values change their type opens a new series.
create table series (
    id int generated always as identity primary key,
    tag_no int not null,
    aspect smallint not null default 0,
    kind smallint not null,
    unique (tag_no, aspect, kind)
);
create table sample (
    series int not null references series (id),
    at bigint not null,
    bits bigint not null,
    text text,
    quality smallint not null,
    flags smallint not null,
    term int not null,
    seq bigint not null,
    primary key (series, at)
);
-- How far each node has shipped: a frame that comes again is known by its number.
create table shipped (
    node uuid primary key,
    term int not null,
    seq bigint not null,
    arrived bigint not null
);
create table unrecorded (
    node uuid not null,
    from_ns bigint not null,
    to_ns bigint not null,
    reason text not null,
    primary key (node, from_ns)
);

create table alarm_event (
    id bigint generated always as identity primary key,
    rule uuid not null,
    sequence int not null,
    kind smallint not null,
    priority smallint not null,
    occurred_at bigint not null,
    decided_at bigint not null,
    value float8,
    level float8,
    actor text not null,
    comment text not null,
    text text not null,
    unique (rule, sequence)
);
create index alarm_event_occurred on alarm_event (occurred_at);
create table alarm_standing (
    rule uuid primary key,
    state smallint not null,
    sequence int not null,
    active boolean not null,
    raised_at bigint not null,
    returned_at bigint not null,
    value float8 not null,
    text text not null,
    acknowledged_by text not null
);

-- Reports as they were made, bit for bit.
create table edition (
    id uuid primary key,
    report uuid not null,
    title text not null,
    made_at timestamptz not null default clock_timestamp(),
    made_by text not null,
    from_ns bigint not null,
    to_ns bigint not null,
    html text not null,
    csv text not null
);
create index edition_report on edition (report, made_at);
