-- What a rule keeps with its events: a list of names and texts.
alter table alarm_event add column values_with jsonb not null default '[]';
