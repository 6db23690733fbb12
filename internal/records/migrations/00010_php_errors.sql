-- +goose Up
CREATE TABLE php_errors (
    site     VARCHAR(63) NOT NULL,
    place    BINARY(16) NOT NULL, -- of kind, file and line
    kind     VARCHAR(20) NOT NULL,
    text     VARCHAR(2000) NOT NULL,
    file     VARCHAR(500) NOT NULL,
    line     INT NOT NULL,
    count    BIGINT NOT NULL,
    request  VARCHAR(500) NOT NULL,
    first_at DATETIME(3) NOT NULL,
    last_at  DATETIME(3) NOT NULL,
    PRIMARY KEY (site, place),
    INDEX (site, last_at),
    FOREIGN KEY (site) REFERENCES sites (name) ON DELETE CASCADE ON UPDATE CASCADE
);
CREATE TABLE php_error_logs (
    site VARCHAR(63) NOT NULL PRIMARY KEY,
    bytes BIGINT NOT NULL, -- that are read
    FOREIGN KEY (site) REFERENCES sites (name) ON DELETE CASCADE ON UPDATE CASCADE
);

-- +goose Down
DROP TABLE php_error_logs;
DROP TABLE php_errors;
