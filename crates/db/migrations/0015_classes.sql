-- Classes of equipment, and places that are instances of them.
create table class (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null,
    extends uuid generated always as ((own ->> 'extends')::uuid) stored references class (id) deferrable initially deferred
);
alter table place
    add column class uuid generated always as ((own ->> 'class')::uuid) stored references class (id) deferrable initially deferred;
-- The number that a tag had, for one that comes back.
create index revision_change_tag on revision_change (item, revision) where kind = 'tag';
