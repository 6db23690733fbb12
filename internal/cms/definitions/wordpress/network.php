<?php // Makes one installation a network of sites; written by Vessik. Arguments: the folder, the base address, the step, folders or domains, and then the names of sub-sites.
[, $folder, $base, $step, $mode] = $argv;
require __DIR__ . '/load.php';
$domain = $_SERVER['HTTP_HOST'];
if ($step === 'tables') {
    require ABSPATH . 'wp-admin/includes/upgrade.php';
    foreach ($wpdb->tables('ms_global') as $table => $prefixed) {
        $wpdb->$table = $prefixed;
    }
    install_network();
    $keeper = get_users(['role' => 'administrator', 'orderby' => 'ID', 'number' => 1])[0];
    $made = populate_network(1, $domain, $keeper->user_email, get_option('blogname'), '/', $mode === 'domains');
    if (is_wp_error($made) && $made->get_error_code() !== 'no_wildcard_dns') { // it asks a name server; the gateway routes every sub-domain
        exit($made->get_error_message());
    }
    echo 'network made';
    return;
}
$keeper = get_user_by('login', get_super_admins()[0]);
foreach (array_slice($argv, 5) as $name) {
    $right = $mode === 'domains' ? "$name.$domain" : $domain;
    $made = wp_insert_site(['domain' => $right, 'path' => $mode === 'domains' ? '/' : "/$name/", 'title' => ucwords(str_replace('-', ' ', $name)), 'user_id' => $keeper->ID]);
    if (is_wp_error($made)) {
        exit("$name: " . $made->get_error_message());
    }
    $wrong = str_replace(':', '', $right); // it takes the colon before a port away
    if ($wrong !== $right) {
        $wpdb->update($wpdb->blogs, ['domain' => $right], ['blog_id' => $made]);
        $of = $wpdb->get_blog_prefix($made);
        foreach (['options' => ['option_value'], 'posts' => ['guid', 'post_content'], 'comments' => ['comment_content', 'comment_author_url']] as $table => $columns) {
            foreach ($columns as $column) {
                $wpdb->query($wpdb->prepare("UPDATE `$of$table` SET `$column`=REPLACE(`$column`, %s, %s) WHERE LEFT(`$column`, 2)<>'a:'", "//$wrong", "//$right"));
            }
        }
    }
}
echo 'network made';
