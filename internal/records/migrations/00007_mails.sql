-- +goose Up
-- What of a caught message is listed and searched; the message itself is a file.
CREATE TABLE mails (
    id         BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
    site       VARCHAR(63) NOT NULL,
    file       VARCHAR(100) NOT NULL,
    way        VARCHAR(16) NOT NULL,
    sender     VARCHAR(500) NOT NULL,
    recipients TEXT NOT NULL,
    subject    VARCHAR(1000) NOT NULL,
    at         DATETIME(3) NOT NULL,
    bytes      BIGINT NOT NULL,
    INDEX (site, id),
    FOREIGN KEY (site) REFERENCES sites (name) ON DELETE CASCADE ON UPDATE CASCADE
);

-- +goose Down
DROP TABLE mails;
