-- +goose Up
CREATE TABLE secrets (
    site   VARCHAR(63) NOT NULL PRIMARY KEY,
    sealed BLOB NOT NULL,
    FOREIGN KEY (site) REFERENCES sites (name) ON DELETE CASCADE ON UPDATE CASCADE
);

-- +goose Down
DROP TABLE secrets;
