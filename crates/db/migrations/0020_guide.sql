-- The site's guide to priorities of alarms.
create table guide (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);
