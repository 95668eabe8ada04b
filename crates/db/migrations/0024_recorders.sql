-- Which values go into history, and when.
create table recorder (
    id uuid primary key,
    rev bigint not null,
    own jsonb not null
);

-- A figure that a recorder keeps of spans is a series of its own; the value of a tag belongs to no recorder.
alter table series add column recorder uuid not null default '00000000-0000-0000-0000-000000000000';
alter table series drop constraint series_tag_no_aspect_kind_key;
alter table series add constraint series_once unique (tag_no, aspect, recorder, kind);
create index series_recorder on series (recorder) where aspect > 0;

-- The instants of which a recorder took the values of all its tags, and who had it done where somebody did.
create table recorder_row (
    recorder uuid not null,
    at bigint not null,
    actor text not null,
    primary key (recorder, at)
);
