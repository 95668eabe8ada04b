-- A call in which somebody could not be told waits for their hours.
alter table call add column later_at bigint;
alter table call add column held integer not null default 0;
