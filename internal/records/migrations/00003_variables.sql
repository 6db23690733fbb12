-- +goose Up
CREATE TABLE variables_history (
    id         INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    engine     VARCHAR(63) NOT NULL,
    who        VARCHAR(120) NOT NULL,
    document   JSON NOT NULL,
    created_at DATETIME(3) NOT NULL,
    KEY (engine, id)
);

-- +goose Down
DROP TABLE variables_history;
