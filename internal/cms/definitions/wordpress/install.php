<?php // Runs WordPress's own installer once a release; written by Vessik. Arguments: the tree, the base address, and perhaps a language.
[, $tree, $base] = $argv;
$language = $argv[3] ?? '';
define('WP_INSTALLING', true);
$_SERVER += ['HTTP_HOST' => parse_url($base, PHP_URL_HOST), 'REQUEST_URI' => '/wp-admin/install.php', 'SERVER_PROTOCOL' => 'HTTP/1.1', 'REQUEST_METHOD' => 'GET'];
define('WP_HTTP_BLOCK_EXTERNAL', true);
function wp_new_blog_notification($title, $url, $user, $password) {} // no mail
require $tree . '/wp-load.php';
require ABSPATH . 'wp-admin/includes/upgrade.php';
if ($language !== '') { // as its own installer does once one is chosen
    load_default_textdomain($language);
    $GLOBALS['wp_locale'] = new WP_Locale();
}
$made = wp_install('VESSIK-TITLE', 'vessik-administrator', 'administrator@vessik.invalid', true, '', bin2hex(random_bytes(16)), $language);
update_option('siteurl', $base);
update_option('home', $base);
$GLOBALS['wp_rewrite']->set_permalink_structure('/%postname%/');
delete_option('rewrite_rules'); // categories had none when they were registered; the first request makes them all
update_option('cron', ['version' => 2]);
echo 'user ', $made['user_id'], "\n";
