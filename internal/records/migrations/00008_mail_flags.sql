-- +goose Up
-- What mail programs mark a message with, as letters of Maildir.
ALTER TABLE mails ADD COLUMN flags VARCHAR(8) NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE mails DROP COLUMN flags;
