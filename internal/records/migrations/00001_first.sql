-- +goose Up
CREATE TABLE sites (
    name       VARCHAR(63) NOT NULL PRIMARY KEY,
    state      VARCHAR(16) NOT NULL,
    document   JSON NOT NULL,
    created_at DATETIME(3) NOT NULL
);
CREATE TABLE reservations (
    kind  VARCHAR(16) NOT NULL,
    value VARCHAR(512) NOT NULL COLLATE utf8mb4_bin,
    site  VARCHAR(63) NOT NULL,
    PRIMARY KEY (kind, value),
    FOREIGN KEY (site) REFERENCES sites (name) ON DELETE CASCADE
);
CREATE TABLE operations (
    id          INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    kind        VARCHAR(16) NOT NULL,
    state       VARCHAR(16) NOT NULL,
    keep_files  BOOLEAN NOT NULL DEFAULT FALSE,
    created_at  DATETIME(3) NOT NULL,
    finished_at DATETIME(3) NULL
);
CREATE TABLE operation_sites (
    operation INT UNSIGNED NOT NULL,
    site      VARCHAR(63) NOT NULL,
    position  INT NOT NULL,
    state     VARCHAR(16) NOT NULL,
    problem   TEXT NOT NULL,
    PRIMARY KEY (operation, site),
    FOREIGN KEY (operation) REFERENCES operations (id) ON DELETE CASCADE
);
CREATE TABLE steps (
    operation    INT UNSIGNED NOT NULL,
    site         VARCHAR(63) NOT NULL,
    position     INT NOT NULL,
    step         VARCHAR(24) NOT NULL,
    state        VARCHAR(16) NOT NULL,
    note         TEXT NOT NULL,
    milliseconds BIGINT NOT NULL DEFAULT 0,
    PRIMARY KEY (operation, site, position),
    FOREIGN KEY (operation) REFERENCES operations (id) ON DELETE CASCADE
);
CREATE TABLE reports (
    id         INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    operation  INT UNSIGNED NOT NULL,
    site       VARCHAR(63) NOT NULL,
    document   JSON NOT NULL,
    created_at DATETIME(3) NOT NULL,
    KEY (site, id)
);

-- +goose Down
DROP TABLE reports, steps, operation_sites, operations, reservations, sites;
