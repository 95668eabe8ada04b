-- What kept an alarm from the operator at an instant is found without reading what the alarm did meanwhile.
create index alarm_event_kept_back on alarm_event (rule, occurred_at) where kind between 6 and 11;
