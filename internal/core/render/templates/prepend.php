<?php // Runs before every script of this site; written by Vessik, outside the site's folder.
if (isset($_SERVER['HTTP_X_VESSIK_PROBE']) && hash_equals('{{.Site.Probe}}', $_SERVER['HTTP_X_VESSIK_PROBE'])) {
    require '{{.ProbeFile}}';
    exit;
}
if (is_file($_SERVER['DOCUMENT_ROOT'] . '/.user.ini')) { // ours takes the place of the site's own: run that one next
    (static function () {
        $own = @parse_ini_file($_SERVER['DOCUMENT_ROOT'] . '/.user.ini')['auto_prepend_file'] ?? '';
        if ($own !== '' && $own !== 'none') {
            require $own;
        }
    })();
}
