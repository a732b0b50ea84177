-- +goose Up
CREATE TABLE users ( -- people who sign in by name
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    role       text NOT NULL,
    label      text NOT NULL, -- of feeds: only those, where it is not empty
    password   bytea, -- as bcrypt has it; none of those who sign in elsewhere
    subject    text UNIQUE, -- who it is to the provider that signs it in, with the provider's address before it
    created_at timestamptz NOT NULL DEFAULT now(),
    last_used_at timestamptz
);
ALTER TABLE sessions ALTER COLUMN token_id DROP NOT NULL;
ALTER TABLE sessions ADD COLUMN user_id bigint REFERENCES users ON DELETE CASCADE;
ALTER TABLE sessions ADD CHECK (num_nonnulls(token_id, user_id) = 1);
