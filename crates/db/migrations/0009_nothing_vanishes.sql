-- Modbus speaks over serial lines too, so its kind does not name the wire. Migration 6 meant to do this.
update connection set own = jsonb_set(own, '{kind}', '"modbus"') where own ->> 'kind' = 'modbus_tcp';
update revision_change set before = jsonb_set(before, '{kind}', '"modbus"') where kind = 'connection' and before ->> 'kind' = 'modbus_tcp';
update revision_change set after = jsonb_set(after, '{kind}', '"modbus"') where kind = 'connection' and after ->> 'kind' = 'modbus_tcp';

-- A machine's clock can be stepped. Samples of an hour that it lived twice stand beside each other, told apart by the clock
-- epoch, which counts the steps.
alter table sample add column epoch int not null default 0;
alter table sample drop constraint sample_pkey;
alter table sample add primary key (series, at, epoch);
alter table shipped add column epoch int not null default 0;
create table clock_step (
    node uuid not null,
    epoch int not null,
    at bigint not null,
    by_ns bigint not null,
    primary key (node, epoch)
);
create index clock_step_at on clock_step (at);

-- Delays of alarms go on over a restart.
alter table alarm_standing add column turning_since bigint;

-- Sessions can be ended. Only a hash of what the browser shows is kept.
create table session (
    id uuid primary key,
    hash bytea not null unique,
    account uuid not null references account (id) on delete cascade,
    made_at timestamptz not null default clock_timestamp(),
    seen_at timestamptz not null default clock_timestamp(),
    address text not null,
    browser text not null
);
create index session_account on session (account);
alter table account add column disabled boolean not null default false;
-- The first account needs a code that only whoever started the program knows; only a hash of it is kept.
create table setup_code (
    only_one boolean primary key default true check (only_one),
    hash bytea not null,
    made_at timestamptz not null default clock_timestamp()
);
-- Cookies are not sealed with a key any more, which lay in every backup.
update plant set cookie_key = '';
alter table plant alter column cookie_key set default '';

-- A token can end by itself, and sends only so many values a second.
alter table token add column expires_at timestamptz;
alter table token add column most_values int not null default 20000;
