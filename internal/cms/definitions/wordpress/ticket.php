<?php // Signs a user in, once, and leads on; Vessik has judged the ticket. $user is the login, empty for the first administrator, and $to
// where to go, empty for the dashboard. Where $former is given, it tells instead who is signed in at that address, and ends that session.
require $_SERVER['DOCUMENT_ROOT'] . '/wp-load.php';
nocache_headers();
if ($former !== '') {
    $cookie = $_COOKIE['wordpress_logged_in_' . md5($former)] ?? '';
    if ($id = wp_validate_auth_cookie($cookie, 'logged_in')) {
        WP_Session_Tokens::get_instance($id)->destroy(wp_parse_auth_cookie($cookie, 'logged_in')['token']);
        header('X-Vessik-User: ' . base64_encode(get_user_by('id', $id)->user_login));
    }
    exit;
}
$found = $user !== '' ? get_user_by('login', $user) : (get_users(['role' => 'administrator', 'orderby' => 'ID', 'number' => 1])[0] ?? false);
if (!$found) {
    wp_die(esc_html("There is no user $user."), '', 404);
}
wp_clear_auth_cookie();
wp_set_auth_cookie($found->ID, false);
wp_redirect($to !== '' ? $to : admin_url());
exit;
