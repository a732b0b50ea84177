-- +goose Up
ALTER TABLE tokens ADD COLUMN role text NOT NULL DEFAULT 'administer'; -- look, operate, administer
ALTER TABLE tokens ADD COLUMN label text NOT NULL DEFAULT ''; -- of feeds: only those, where it is not empty
ALTER TABLE tokens ADD COLUMN expires_at timestamptz;
ALTER TABLE sessions ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY;
ALTER TABLE sessions ADD COLUMN created_at timestamptz NOT NULL DEFAULT now();
ALTER TABLE sessions ADD COLUMN address text NOT NULL DEFAULT '';
CREATE TABLE changes ( -- what people and programs have changed, or were not let change; nothing of it is changed itself
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now(),
    token_id bigint, -- it may be removed since
    by_name text NOT NULL,
    address text NOT NULL,
    operation text NOT NULL,
    about text NOT NULL, -- such as: feed loans
    status integer NOT NULL, -- of the answer, as HTTP has it
    asked jsonb, -- without secrets
    before jsonb,
    after jsonb
);
CREATE INDEX ON changes (about, id);
-- +goose StatementBegin
CREATE FUNCTION changes_stay() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the record of changes is only added to';
END $$;
-- +goose StatementEnd
CREATE TRIGGER changes_stay BEFORE UPDATE OR DELETE ON changes FOR EACH ROW EXECUTE FUNCTION changes_stay();
CREATE TRIGGER changes_stay_all BEFORE TRUNCATE ON changes EXECUTE FUNCTION changes_stay();
