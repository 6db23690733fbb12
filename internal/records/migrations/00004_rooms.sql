-- +goose Up
-- What an operation carries is its kind's alone.
UPDATE operations SET document = COALESCE(JSON_EXTRACT(document, '$.change'), JSON_EXTRACT(document, '$.trial'), JSON_EXTRACT(document, '$.stencil'))
    WHERE document IS NOT NULL;
UPDATE operations SET document = '{"keep_files":true}' WHERE keep_files AND document IS NULL;
ALTER TABLE operations DROP COLUMN keep_files, MODIFY kind VARCHAR(63) NOT NULL, MODIFY state VARCHAR(31) NOT NULL, ADD KEY (state);
ALTER TABLE sites MODIFY state VARCHAR(31) NOT NULL;
ALTER TABLE reservations MODIFY kind VARCHAR(31) NOT NULL;
ALTER TABLE operation_sites MODIFY state VARCHAR(31) NOT NULL, ADD KEY (site);
ALTER TABLE steps MODIFY step VARCHAR(63) NOT NULL, MODIFY state VARCHAR(31) NOT NULL, ADD KEY (site);
-- A report belongs to the part of an operation by which it was made, whatever its site is called by now.
ALTER TABLE reports ADD COLUMN part VARCHAR(63) NOT NULL DEFAULT '' AFTER operation, ADD KEY (operation);
UPDATE reports SET part = site;
UPDATE reports r JOIN operations o ON o.id = r.operation JOIN operation_sites p ON p.operation = o.id
    SET r.part = p.site WHERE o.kind = 'readdress';

-- +goose Down
ALTER TABLE reports DROP COLUMN part, DROP KEY operation;
ALTER TABLE operations ADD COLUMN keep_files BOOLEAN NOT NULL DEFAULT FALSE;
