-- What lay below a node of a device when somebody looked last and took note of it, so that what is new or gone can be told.
create table listed (
    connection uuid not null references connection (id) on delete cascade,
    above text not null check (octet_length(above) <= 2000),
    at timestamptz not null default clock_timestamp(),
    -- Pairs of id and name.
    nodes jsonb not null,
    primary key (connection, above)
);
