-- Beside trends, lookups are kept under a name; a name is taken only among its own kind.
alter table kept_trend rename to kept_question;
alter table kept_question rename column trend to question;
alter table kept_question add column kind text not null default 'trend';
drop index kept_trend_name;
create unique index kept_question_name on kept_question (kind, lower(name));
-- A token pushes values, or reads kept lookups.
alter table token add column reads boolean not null default false;
