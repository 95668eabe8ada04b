-- What people keep of a sheet under a name: its columns, filter and order.
create table kept_view (
    id uuid primary key,
    sheet text not null,
    name text not null,
    view jsonb not null,
    account uuid references account (id) on delete set null,
    actor text not null,
    made_at timestamptz not null default clock_timestamp()
);
create unique index kept_view_name on kept_view (sheet, lower(name));
