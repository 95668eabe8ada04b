-- Alarm classes, shift patterns and call-out plans; whom people are told at; calls, and what was told.
create table shift_pattern (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);
create table alarm_class (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);
create table call_plan (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);

-- The address at which somebody is told, and the times of the week in which they may be (none: always).
alter table account add column mail text not null default '';
alter table account add column hours jsonb;

-- Times in nanoseconds since 1970, as those of alarms.
create table call (
    id uuid primary key,
    plan uuid not null,
    plan_name text not null,
    test boolean not null,
    began_at bigint not null,
    round integer not null,
    step integer not null,
    next_at bigint not null,
    told_at bigint,
    over_at bigint,
    over jsonb
);
create index call_began on call (began_at desc);
create index call_open on call (id) where over_at is null;
create table call_alarm (
    call uuid not null references call on delete cascade,
    rule uuid not null,
    raised_at bigint not null,
    priority smallint not null,
    text text not null,
    gone boolean not null,
    told boolean not null,
    primary key (call, rule)
);
create index call_alarm_rule on call_alarm (rule, raised_at);
create table call_message (
    id uuid primary key,
    call uuid not null references call on delete cascade,
    made_at bigint not null,
    -- Who is told, in words, and their account where they have one.
    whom text not null,
    account uuid,
    -- The connection that carries it.
    carrier uuid not null,
    notice jsonb not null,
    attempts integer not null,
    -- When it is tried next; nothing: never again.
    next_at bigint,
    sent_at bigint,
    -- What the server said last, or why it was not sent.
    answer text not null
);
create index call_message_call on call_message (call, made_at);
create index call_message_open on call_message (next_at) where next_at is not null;

-- What people did around an instant.
create index journal_at on journal (at);
