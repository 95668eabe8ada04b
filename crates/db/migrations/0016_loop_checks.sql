-- Proof that points show what their sources do; kept when the tag goes.
create table loop_check (
    id uuid primary key,
    tag uuid not null,
    at bigint not null,
    account uuid not null,
    actor text not null,
    passed boolean not null,
    remark text not null,
    -- What was seen, and the way that the value took then.
    seen jsonb not null,
    way jsonb not null
);
create index loop_check_tag on loop_check (tag, at desc);
