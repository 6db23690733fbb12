-- +goose Up
-- What sites ask of other machines: which may ask nothing has it as its policy, and what was asked is kept.
UPDATE sites SET document = REGEXP_REPLACE(document, '"offline": ?true', '"outgoing":"closed"');
UPDATE operations SET document = REGEXP_REPLACE(document, '"offline": ?true', '"outgoing":"closed"');
UPDATE settings_history SET document = REGEXP_REPLACE(document, '"offline": ?true', '"outgoing":"closed"');
CREATE TABLE outgoing (
    site         VARCHAR(63) NOT NULL,
    host         VARCHAR(255) NOT NULL,
    address      VARCHAR(45) NOT NULL,
    port         INT NOT NULL,
    count        BIGINT NOT NULL,
    refused      BIGINT NOT NULL,
    failed       BIGINT NOT NULL,
    caught       BIGINT NOT NULL,
    milliseconds BIGINT NOT NULL,
    first_at     DATETIME(3) NOT NULL,
    last_at      DATETIME(3) NOT NULL,
    PRIMARY KEY (site, host, address, port),
    INDEX (site, last_at),
    FOREIGN KEY (site) REFERENCES sites (name) ON DELETE CASCADE ON UPDATE CASCADE
);

-- +goose Down
DROP TABLE outgoing;
UPDATE settings_history SET document = REGEXP_REPLACE(document, '"outgoing": ?"closed"', '"offline":true');
UPDATE operations SET document = REGEXP_REPLACE(document, '"outgoing": ?"closed"', '"offline":true');
UPDATE sites SET document = REGEXP_REPLACE(document, '"outgoing": ?"closed"', '"offline":true');
