-- +goose Up

-- Whether a refresh asks the other sources too.
alter table refresh add column compare boolean not null default false;

-- Assumptions of valuation models that the user has set for an issuer.
create table model (
    listing_id  bigint not null references listing,
    method      text not null,
    assumptions jsonb not null,
    known_from  timestamptz not null,
    known_to    timestamptz not null default 'infinity'
);
create unique index on model (listing_id, method) where known_to = 'infinity';

-- Whose shares a listing is of, and which part of them, where there are several classes.
alter table listing add column issuer text not null default '', add column part float8 not null default 0;

-- Recommendations are records of a day each.
insert into entry (listing_id, dataset, source, key, day, fields, place, request_id, known_from, known_to)
    select listing_id, dataset, source, known_from::date::text, known_from::date,
        jsonb_strip_nulls(jsonb_build_object('date', known_from::date::text, 'recommendation', fields->'estimate.recommendation', 'target', fields->'estimate.target',
            'target_high', fields->'estimate.target_high', 'target_low', fields->'estimate.target_low', 'growth_5y', fields->'estimate.growth_5y')),
        place, request_id, known_from, known_to
    from observation where dataset = 'recommendations';
delete from observation where dataset = 'recommendations';
