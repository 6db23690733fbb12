-- +goose Up
CREATE TABLE relays (
    host     VARCHAR(255) NOT NULL PRIMARY KEY,
    document LONGTEXT NOT NULL,
    sealed   BLOB NOT NULL
);

-- +goose Down
DROP TABLE relays;
