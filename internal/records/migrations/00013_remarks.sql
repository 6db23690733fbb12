-- +goose Up
CREATE TABLE remarks (
    id         BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
    site       VARCHAR(63) NOT NULL,
    document   LONGTEXT NOT NULL,
    drawing    MEDIUMBLOB,
    INDEX (site),
    FOREIGN KEY (site) REFERENCES sites (name) ON UPDATE CASCADE ON DELETE CASCADE
);

-- +goose Down
DROP TABLE remarks;
