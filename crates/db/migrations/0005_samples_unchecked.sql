-- Checking for every sample that its series is there costs more than storing it. Series are made in the same transaction and
-- never deleted.
alter table sample drop constraint sample_series_fkey;
