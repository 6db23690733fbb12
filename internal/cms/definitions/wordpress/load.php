<?php // Loads WordPress from the command line; written by Vessik. Arguments: the folder, the base address.
[, $folder, $base] = $argv;
$_SERVER += ['HTTP_HOST' => substr($base, strpos($base, '//') + 2), 'SERVER_NAME' => parse_url($base, PHP_URL_HOST), 'REQUEST_URI' => '/', 'SERVER_PROTOCOL' => 'HTTP/1.1', 'REQUEST_METHOD' => 'GET'];
define('WP_HTTP_BLOCK_EXTERNAL', true);
define('DISABLE_WP_CRON', true);
require $folder . '/wp-load.php';
