-- +goose Up
CREATE TABLE accounts (
    name     VARCHAR(63) NOT NULL PRIMARY KEY,
    document LONGTEXT NOT NULL,
    sealed   BLOB NOT NULL
);

-- +goose Down
DROP TABLE accounts;
