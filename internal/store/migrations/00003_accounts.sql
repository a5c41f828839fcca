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
