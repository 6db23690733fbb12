-- +goose Up
-- A site's CMS, its administrator, that it is pinned and that it is being made have the names by which everything calls them.
UPDATE sites SET document = JSON_REMOVE(JSON_SET(document, '$.cms', JSON_EXTRACT(document, '$.kit')), '$.kit') WHERE JSON_EXISTS(document, '$.kit');
UPDATE sites SET document = JSON_REMOVE(JSON_SET(document, '$.administrator', JSON_OBJECT('name', JSON_VALUE(document, '$.admin.user'),
    'mail', JSON_VALUE(document, '$.admin.email'), 'password', JSON_VALUE(document, '$.admin.password'))), '$.admin')
    WHERE JSON_EXISTS(document, '$.admin');
UPDATE sites SET document = JSON_REMOVE(JSON_SET(document, '$.pinned', JSON_EXTRACT(document, '$.top')), '$.top') WHERE JSON_EXISTS(document, '$.top');
UPDATE sites SET state = 'making', document = JSON_SET(document, '$.state', 'making') WHERE state = 'provisioning';
UPDATE operations SET kind = 'match-fleet' WHERE kind = 'apply-fleet';
UPDATE operations SET document = JSON_REMOVE(JSON_SET(document, '$.keep_copies', JSON_EXTRACT(document, '$.keep')), '$.keep')
    WHERE kind = 'trial' AND JSON_EXISTS(document, '$.keep');
UPDATE operations SET document = JSON_REMOVE(JSON_SET(document, '$.stay', JSON_EXTRACT(document, '$.keep')), '$.keep')
    WHERE kind <> 'trial' AND JSON_EXISTS(document, '$.keep');

-- +goose Down
UPDATE operations SET kind = 'apply-fleet' WHERE kind = 'match-fleet';
