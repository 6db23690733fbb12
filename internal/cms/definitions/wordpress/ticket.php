<?php // Signs a user in, once, and leads to the dashboard; Vessik has judged the ticket. $user is the login, empty for the first administrator.
require $_SERVER['DOCUMENT_ROOT'] . '/wp-load.php';
$found = $user !== '' ? get_user_by('login', $user) : (get_users(['role' => 'administrator', 'orderby' => 'ID', 'number' => 1])[0] ?? false);
if (!$found) {
    wp_die(esc_html("There is no user $user."), '', 404);
}
wp_clear_auth_cookie();
wp_set_auth_cookie($found->ID, false);
nocache_headers();
wp_redirect(admin_url());
exit;
