-- +goose Up

-- Every instrument that any source lists. A listing is never removed.
create table listing (
    id       bigint generated always as identity primary key,
    symbol   text not null unique,
    isin     text not null default '',
    name     text not null,
    kind     text not null,
    currency text not null,
    ended    date,
    known_from timestamptz not null
);
create index on listing (isin) where isin <> '';

create table watchlist (
    id         bigint generated always as identity primary key,
    name       text not null,
    version    bigint not null default 1,
    created_at timestamptz not null,
    changed_at timestamptz not null,
    deleted_at timestamptz
);
create unique index on watchlist (lower(name)) where deleted_at is null;

create table watchlist_row (
    watchlist_id bigint not null references watchlist on delete cascade,
    listing_id   bigint not null references listing,
    position     integer not null,
    quantity     numeric,
    cost         numeric,
    added_at     timestamptz not null,
    primary key (watchlist_id, listing_id)
);

-- A refresh and what it did. Events are numbered within it, so that a listener
-- that was away can read on from where it stopped.
create table refresh (
    id           bigint generated always as identity primary key,
    watchlist_id bigint references watchlist on delete set null,
    datasets     text[] not null,
    force        boolean not null,
    state        text not null check (state in ('queued', 'running', 'done', 'cancelled', 'failed')),
    asked_at     timestamptz not null,
    started_at   timestamptz,
    finished_at  timestamptz,
    cancel       boolean not null default false,
    planned      integer not null default 0,
    answered     integer not null default 0,
    failed       integer not null default 0,
    units        integer not null default 0,
    skipped      integer not null default 0,
    refused      integer not null default 0,
    last_event   integer not null default 0,
    fault        text not null default ''
);
create index on refresh (watchlist_id, id desc);
create index on refresh (state) where state in ('queued', 'running');

create table refresh_event (
    refresh_id bigint not null references refresh on delete cascade,
    seq        integer not null,
    at         timestamptz not null,
    kind       text not null,
    data       jsonb not null,
    primary key (refresh_id, seq)
);

-- What running refreshes are bringing.
create table in_flight (
    refresh_id bigint not null references refresh on delete cascade,
    dataset    text not null,
    listing_id bigint not null references listing,
    primary key (dataset, listing_id, refresh_id)
);

-- Raw responses, gzip-compressed, under the SHA-256 of their content.
create table response (
    hash         bytea primary key,
    content_type text not null,
    size         bigint not null,
    body         bytea not null,
    stored_at    timestamptz not null
);
alter table response alter column body set storage external;

-- The log of every request that was sent.
create table request (
    id            bigint generated always as identity primary key,
    refresh_id    bigint references refresh on delete set null,
    source        text not null,
    dataset       text not null,
    address       text not null,
    listings      bigint[] not null,
    started_at    timestamptz not null,
    took_ms       double precision not null,
    status        integer not null,
    bytes         bigint not null,
    units         integer not null,
    units_left    integer not null,
    fault         text not null default '',
    response_hash bytea references response
);
create index on request (refresh_id);
create index on request (source, started_at desc);

-- Observations are only ever added. A newer one for the same key closes the
-- interval in which the older was the known one; that is the only update.
create table observation (
    id         bigint generated always as identity primary key,
    listing_id bigint not null references listing,
    dataset    text not null,
    source     text not null,
    observed   timestamptz not null,
    delay_s    integer not null default 0,
    minor_unit boolean not null default false,
    suspect    boolean not null default false,
    fields     jsonb not null,
    rejected   jsonb,
    place      text not null,
    request_id bigint not null references request,
    known_from timestamptz not null,
    known_to   timestamptz not null default 'infinity'
);
create unique index on observation (listing_id, dataset, source) where known_to = 'infinity';
create index on observation (listing_id, dataset, known_from) where known_to < 'infinity';

-- The outcome of every request for a dataset of a listing, likewise.
create table attempt (
    listing_id bigint not null references listing,
    dataset    text not null,
    source     text not null,
    outcome    text not null,
    detail     text not null default '',
    request_id bigint references request,
    place      text not null default '',
    from_day   date,
    known_from timestamptz not null,
    known_to   timestamptz not null default 'infinity'
);
create unique index on attempt (listing_id, dataset, source) where known_to = 'infinity';
create index on attempt (listing_id, dataset, known_from) where known_to < 'infinity';

-- Bars come by the million, and only together with their request and for a known
-- listing, so they go without foreign keys: checking those costs as much as the copy.
create table bar (
    listing_id bigint not null,
    source     text not null,
    day        date not null,
    open       double precision not null,
    high       double precision not null,
    low        double precision not null,
    close      double precision not null,
    volume     double precision not null,
    request_id bigint not null,
    known_from timestamptz not null,
    known_to   timestamptz not null default 'infinity'
);
create unique index on bar (listing_id, source, day) where known_to = 'infinity';
create index on bar (listing_id, day, known_from) where known_to < 'infinity';

create table split (
    listing_id bigint not null references listing,
    source     text not null,
    day        date not null,
    ratio      double precision not null,
    request_id bigint not null references request,
    known_from timestamptz not null,
    known_to   timestamptz not null default 'infinity'
);
create unique index on split (listing_id, source, day) where known_to = 'infinity';

create table token (
    id         bigint generated always as identity primary key,
    hash       bytea not null unique,
    label      text not null,
    scope      text not null check (scope in ('read', 'write', 'admin')),
    created_at timestamptz not null
);
