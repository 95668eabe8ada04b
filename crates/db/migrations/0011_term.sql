-- The term of the plant rises when another machine takes over; whoever stores or edits in an older one is refused.
create table term (
    only_one boolean primary key default true check (only_one),
    term int not null check (term > 0)
);
insert into term (term) select greatest(1, coalesce(max(term), 1)) from shipped;

-- Nodes have short numbers, which samples carry: of two samples of one time the later (term, node, seq) stays, and a span in
-- which one node recorded nothing says nothing of what another recorded. Samples stored before have the number 0.
alter table shipped add column no smallint;
update shipped set no = numbered.no
    from (select node, row_number() over (order by node) as no from shipped) numbered where numbered.node = shipped.node;
alter table shipped alter column no set not null;
alter table shipped add unique (no);
alter table sample add column node smallint not null default 0;
