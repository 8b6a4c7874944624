-- What limits were formed from changes how often they are crossed by chance, so that it is part of what is alike.
ALTER TABLE segments DROP COLUMN design_group;
ALTER TABLE segments ADD COLUMN design_group text GENERATED ALWAYS AS (md5(
    coalesce((design->'raising')::text, '') || '|' || coalesce((design->'basis')::text, '') || '|' ||
    coalesce((design->'ewma')::text, '') || '|' || coalesce((design->'cusum')::text, '') || '|' ||
    coalesce((design->'resolution_floor')::text, '') || '|' ||
    coalesce(round(((design->>'below')::float8 / nullif((design->>'sigma')::float8, 0))::numeric, 3)::text, '') || '|' ||
    coalesce(round(((design->>'above')::float8 / nullif((design->>'sigma')::float8, 0))::numeric, 3)::text, '') || '|' ||
    coalesce((design->'estimated'->'source')::text, '') || '|' ||
    coalesce(length(design->'estimated'->>'points')::text || left(design->'estimated'->>'points', 1), '') || '|' ||
    coalesce(round((design->'estimated'->>'autocorrelation')::numeric, 1)::text, '')
)) STORED;

-- What a browser held while the network was gone, and the server did not take.
ALTER TABLE attempts
    DROP CONSTRAINT attempts_kind_check,
    ADD CONSTRAINT attempts_kind_check
        CHECK (kind IN ('far', 'setting', 'tag', 'condition', 'held'));
