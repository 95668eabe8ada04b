-- What leaves through a connection.
create table publication (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null,
    connection uuid not null generated always as ((own ->> 'connection')::uuid) stored references connection (id) deferrable initially deferred
);
