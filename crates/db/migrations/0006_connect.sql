-- Layouts: blocks of registers described once.
create table layout (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);

-- Modbus speaks over serial lines too now, so its kind no longer names the wire.
update connection set own = jsonb_set(own, '{kind}', '"modbus"') where own ->> 'kind' = 'modbus';
update revision_change set before = jsonb_set(before, '{kind}', '"modbus"') where kind = 'connection' and before ->> 'kind' = 'modbus';
update revision_change set after = jsonb_set(after, '{kind}', '"modbus"') where kind = 'connection' and after ->> 'kind' = 'modbus';

-- Values of memory tags that outlast a restart.
create table kept_value (
    tag int primary key,
    at bigint not null,
    value jsonb not null
);

-- What a program shows to push values: only the hash of it is kept.
create table token (
    id uuid primary key,
    name text not null unique,
    hash bytea not null unique,
    place uuid,
    made_at timestamptz not null default clock_timestamp(),
    made_by text not null,
    used_at timestamptz
);
