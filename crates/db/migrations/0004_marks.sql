-- What people leave on a trend for others: a note at an instant of a tag, and a trend kept under a name.
create table tag_note (
    id uuid primary key,
    tag uuid not null,
    at bigint not null,
    text text not null,
    account uuid not null,
    actor text not null,
    made_at timestamptz not null default clock_timestamp()
);
create index tag_note_at on tag_note (tag, at);
create table kept_trend (
    id uuid primary key,
    name text not null,
    trend jsonb not null,
    account uuid not null,
    actor text not null,
    made_at timestamptz not null default clock_timestamp()
);
create unique index kept_trend_name on kept_trend (lower(name));
