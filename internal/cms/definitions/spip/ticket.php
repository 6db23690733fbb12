<?php // Signs a user in, once, and leads to the private pages; Vessik has judged the ticket. $user is the login, empty for the first administrator.
chdir($_SERVER['DOCUMENT_ROOT']);
$_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = '/spip.php';
$_SERVER['SCRIPT_FILENAME'] = $_SERVER['DOCUMENT_ROOT'] . '/spip.php';
require $_SERVER['DOCUMENT_ROOT'] . '/vendor/autoload.php';
require $_SERVER['DOCUMENT_ROOT'] . '/ecrire/inc_version.php';
include_spip('base/abstract_sql');
include_spip('inc/auth');
$found = sql_fetsel('*', 'spip_auteurs', $user !== '' ? "statut<>'5poubelle' AND login=" . sql_quote($user) : "statut='0minirezo' AND webmestre='oui'", '', 'id_auteur', '1');
if (!$found || !auth_loger($found)) {
    http_response_code(404);
    exit('There is no user ' . htmlspecialchars($user) . '.');
}
header('Cache-Control: no-store');
header('Location: /ecrire/', true, 302);
exit;
