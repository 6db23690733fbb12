<?php // Loads SPIP from the command line; written by Vessik. Arguments: the folder, the base address.
[, $folder, $base] = $argv;
chdir($folder);
$_SERVER = ['HTTP_HOST' => substr($base, strpos($base, '//') + 2), 'SERVER_NAME' => parse_url($base, PHP_URL_HOST), 'REQUEST_URI' => '/', 'REQUEST_METHOD' => 'GET', 'SERVER_PROTOCOL' => 'HTTP/1.1', 'SERVER_PORT' => '80',
    'SCRIPT_NAME' => '/spip.php', 'PHP_SELF' => '/spip.php', 'SCRIPT_FILENAME' => "$folder/spip.php", 'REMOTE_ADDR' => '127.0.0.1'] + $_SERVER;
require "$folder/vendor/autoload.php";
require "$folder/ecrire/inc_version.php";
