-- Whether an alarm came as the first of its first-out group.
alter table alarm_event add column first_out boolean not null default false;
alter table alarm_standing add column first_out boolean not null default false;
