<?php // Does what SPIP's own installer does, in two turns as it does, once a release; written by Vessik. Arguments: the tree, the base address.
[, $tree, $base] = $argv;
$quiet = E_ALL & ~(E_WARNING | E_NOTICE | E_DEPRECATED | E_USER_DEPRECATED);
if (($argv[3] ?? '') === 'plugins') {
    require __DIR__ . '/load.php';
    error_reporting($quiet);
    include_spip('inc/plugin');
    actualise_plugins_actifs();
    plugin_installes_meta();
    sql_delete('spip_meta', "nom LIKE 'secret\\_%' OR nom LIKE 'cache\\_secret\\_%' OR nom LIKE 'alea\\_ephemere%'");
    foreach (['config/cles.php', 'config/chmod.php'] as $file) {
        @unlink("$tree/$file");
    }
    echo 'user ', sql_getfetsel('id_auteur', 'spip_auteurs', "webmestre='oui'"), "\n";
    return;
}
rename("$tree/config/connect.php", "$tree/config/connect.tmp.php"); // as long as that name, SPIP knows that it is being installed
chdir("$tree/ecrire");
$_GET['exec'] = $_REQUEST['exec'] = 'install';
$_SERVER = ['HTTP_HOST' => parse_url($base, PHP_URL_HOST), 'SERVER_NAME' => parse_url($base, PHP_URL_HOST), 'REQUEST_URI' => '/ecrire/?exec=install', 'REQUEST_METHOD' => 'GET', 'SERVER_PROTOCOL' => 'HTTP/1.1', 'SERVER_PORT' => '80',
    'SCRIPT_NAME' => '/ecrire/index.php', 'PHP_SELF' => '/ecrire/index.php', 'SCRIPT_FILENAME' => "$tree/ecrire/index.php", 'REMOTE_ADDR' => '127.0.0.1'] + $_SERVER;
define('_ESPACE_PRIVE', true);
define('_ECRIRE_INSTALL', '1');
define('_FILE_TMP', '_install');
require "$tree/vendor/autoload.php";
require "$tree/ecrire/inc_version.php";
error_reporting($quiet);
foreach (['base/create', 'base/abstract_sql', 'inc/meta', 'inc/lang'] as $part) {
    include_spip($part);
}
changer_langue('en');
creer_base('');
$charset = sql_get_charset(_DEFAULT_CHARSET);
foreach (['charset_sql_base' => $charset['charset'], 'charset_collation_sql_base' => $charset['collation'], 'charset_sql_connexion' => $charset['charset'], 'version_installee' => $GLOBALS['spip_version_base'],
    'nouvelle_install' => '1', 'langue_site' => 'en'] as $name => $value) {
    sql_insertq('spip_meta', ['nom' => $name, 'valeur' => $value, 'impt' => 'non']);
}
lire_metas();
sql_insertq('spip_auteurs', ['nom' => 'vessik-administrator', 'login' => 'vessik-administrator', 'email' => 'administrator@vessik.invalid', 'statut' => '0minirezo', 'webmestre' => 'oui']);
ecrire_meta('email_webmaster', 'administrator@vessik.invalid');
(charger_fonction('config', 'inc'))();
ecrire_meta('nom_site', 'VESSIK-TITLE');
ecrire_meta('adresse_site', $base);
include_spip('inc/plugin');
actualise_plugins_actifs();
rename("$tree/config/connect.tmp.php", "$tree/config/connect.php");
passthru(implode(' ', array_map('escapeshellarg', [PHP_BINARY, '-d', 'error_reporting=0', '-c', php_ini_loaded_file(), __FILE__, $tree, $base, 'plugins'])) . ' 2>&1');
