-- Sets of names for the states of values.
create table states (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);

-- Values that somebody set by hand, until they are released.
create table by_hand (
    tag uuid primary key,
    value jsonb not null,
    reason text not null,
    account uuid,
    actor text not null,
    since bigint not null,
    until bigint,
    keeps boolean not null
);
