-- Recipes that are kept beside the studies: each with what it reads, but for a DEM.
CREATE TABLE recipe (
    id bigserial PRIMARY KEY,
    name text NOT NULL UNIQUE CHECK (name <> ''),
    -- what it is for, in the analyst's words
    about text NOT NULL,
    -- where it comes from: a study, a file
    origin text NOT NULL,
    recipe text NOT NULL,
    bytes bigint NOT NULL,
    created_at timestamptz NOT NULL
);
CREATE TABLE recipe_chunk (
    recipe_id bigint NOT NULL REFERENCES recipe ON DELETE CASCADE,
    sequence integer NOT NULL,
    data bytea NOT NULL,
    PRIMARY KEY (recipe_id, sequence)
);
-- Mostly compressed already.
ALTER TABLE recipe_chunk ALTER COLUMN data SET STORAGE EXTERNAL;
-- A study can be run as far as a step.
ALTER TABLE job DROP CONSTRAINT job_kind_check;
ALTER TABLE job ADD CONSTRAINT job_kind_check CHECK
    (kind IN ('fetch', 'import', 'prepare', 'layer', 'review', 'route', 'package', 'realise', 'atlas', 'follow', 'run_to'));
