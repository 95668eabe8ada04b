-- How an alarm stands is told by three things kept apart: the process condition, the acknowledgement, and what suppresses it.
-- `state` stays as the standard's name for their product.
alter table alarm_standing add column condition smallint not null default 0;
alter table alarm_standing add column acknowledgement smallint not null default 0;
alter table alarm_standing add column suppressions jsonb not null default '{}';
update alarm_standing set
    condition = case when state in (1, 2) then 1 else 0 end,
    acknowledgement = case state when 1 then 1 when 2 then 2 when 3 then 1 else 0 end;
alter table alarm_event add column suppressed boolean not null default false;
alter table alarm_event add column until_at bigint;
-- A whole number beyond 2^53 with all its digits, where `value` has lost some.
alter table alarm_standing add column digits text;
alter table alarm_event add column digits text;
