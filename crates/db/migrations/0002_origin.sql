-- Events of a rule are numbered by the node that judged it: imported ones come from another and count by themselves.
alter table alarm_event add column node uuid not null default '00000000-0000-0000-0000-000000000000';
alter table alarm_event drop constraint alarm_event_rule_sequence_key;
alter table alarm_event add constraint alarm_event_once unique (rule, node, sequence);
drop index alarm_event_occurred;
create index alarm_event_order on alarm_event (occurred_at, id);
create index alarm_event_rule on alarm_event (rule, occurred_at);
