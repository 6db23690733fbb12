-- +goose Up
ALTER TABLE operations ADD COLUMN document JSON NULL;
ALTER TABLE operations MODIFY kind VARCHAR(24) NOT NULL;
CREATE TABLE settings_history (
    id         INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    site       VARCHAR(63) NOT NULL,
    who        VARCHAR(120) NOT NULL,
    document   JSON NOT NULL,
    created_at DATETIME(3) NOT NULL,
    KEY (site, id)
);

-- +goose Down
DROP TABLE settings_history;
ALTER TABLE operations DROP COLUMN document;
