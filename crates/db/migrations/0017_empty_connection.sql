-- A tag may say that it has no connection, whatever the class of its equipment says; that is an object, and no identity.
alter table tag drop column connection;
alter table tag
    add column connection uuid generated always as (case jsonb_typeof(own -> 'connection') when 'string' then (own ->> 'connection')::uuid end)
        stored references connection (id) deferrable initially deferred;
