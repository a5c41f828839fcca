-- +goose Up

-- A request may bring several datasets, and is one of the calls of its source.
alter table request add column datasets text[] not null default '{}', add column call text not null default '', add column remarks text[] not null default '{}';
update request set datasets = array[dataset];
alter table request drop column dataset;

-- Values keep the name and the text under which the source wrote them.
alter table observation add column raw jsonb, add column standalone boolean not null default false;

-- The days that a source has answered for, so that only what lacks is asked for.
alter table attempt add column covered datemultirange not null default '{}';
update attempt set covered = datemultirange(daterange(from_day, (select max(day) + 1 from bar where bar.listing_id = attempt.listing_id and bar.source = attempt.source), '[)'))
    where from_day is not null and exists (select from bar where bar.listing_id = attempt.listing_id and bar.source = attempt.source and bar.day >= from_day);
alter table attempt drop column from_day;

-- Dated records: dividends, splits, announcements, members, fixings. The key tells
-- those of one listing apart.
create table entry (
    listing_id bigint not null,
    dataset    text not null,
    source     text not null,
    key        text not null,
    day        date,
    fields     jsonb not null,
    place      text not null,
    request_id bigint not null,
    known_from timestamptz not null,
    known_to   timestamptz not null default 'infinity'
);
create unique index on entry (listing_id, dataset, source, key) where known_to = 'infinity';
create index on entry (listing_id, dataset, known_from) where known_to < 'infinity';
insert into entry (listing_id, dataset, source, key, day, fields, place, request_id, known_from, known_to)
    select listing_id, 'splits', source, day::text, day, jsonb_build_object('date', day::text, 'ratio', ratio), '', request_id, known_from, known_to from split;
drop table split;

-- Bars within the day, kept for ten days.
create table intraday_bar (
    listing_id bigint not null,
    source     text not null,
    at         timestamptz not null,
    open       double precision not null,
    high       double precision not null,
    low        double precision not null,
    close      double precision not null,
    volume     double precision not null,
    request_id bigint not null,
    known_from timestamptz not null,
    known_to   timestamptz not null default 'infinity'
);
create unique index on intraday_bar (listing_id, source, at) where known_to = 'infinity';
create index on intraday_bar (at);

-- What a refresh has claimed, no other brings.
drop table in_flight;
create table in_flight (
    dataset    text not null,
    listing_id bigint not null references listing,
    refresh_id bigint not null references refresh on delete cascade,
    primary key (dataset, listing_id)
);
create index on in_flight (refresh_id);

-- Why a refresh was asked for, how far back, and what was on screen.
alter table refresh add column cause text not null default 'hand', add column from_day date, add column visible text[] not null default '{}', add column shared integer not null default 0;

-- What the user has set of sources.
create table source_setting (
    source   text primary key,
    enabled  boolean not null
);
create table source_preference (
    dataset text not null,
    place   integer not null,
    source  text not null,
    compare boolean not null,
    primary key (dataset, place)
);

-- When a watchlist refreshes by itself.
create table schedule (
    watchlist_id bigint primary key references watchlist on delete cascade,
    cron         text not null default '',
    zone         text not null default 'UTC',
    every_s      integer not null default 0,
    next_at      timestamptz,
    last_at      timestamptz
);
create index on schedule (next_at);

-- Listings that a refresh without a watchlist is for.
alter table refresh add column listings bigint[] not null default '{}';
