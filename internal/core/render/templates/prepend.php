<?php // Runs before every script of this site; written by Vessik, outside the site's folder.
if (isset($_SERVER['HTTP_X_VESSIK_PROBE']) && hash_equals('{{php .Site.Probe}}', $_SERVER['HTTP_X_VESSIK_PROBE'])) {
{{- if .Ticket}}
    if (isset($_SERVER['HTTP_X_VESSIK_TICKET'])) {
        $user = base64_decode($_SERVER['HTTP_X_VESSIK_TICKET']);
        $to = base64_decode($_SERVER['HTTP_X_VESSIK_TO'] ?? '');
        $former = base64_decode($_SERVER['HTTP_X_VESSIK_FORMER'] ?? '');
        $_SERVER['REQUEST_URI'] = $_SERVER['PHP_SELF'] = $_SERVER['SCRIPT_NAME'] = '/index.php';
        unset($_SERVER['HTTP_X_VESSIK_TICKET'], $_SERVER['HTTP_X_VESSIK_PROBE'], $_SERVER['HTTP_X_VESSIK_TO'], $_SERVER['HTTP_X_VESSIK_FORMER']);
        require '{{php .Ticket}}';
        exit;
    }
{{- end}}
    require '{{php .ProbeFile}}';
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
{{- if and .Site.Settings.Debug .CMSDebug}}
{{- range $name, $value := .CMSDebug}}
define('{{$name}}', {{$value}});
{{- end}}
{{- end}}
{{- if or .Site.TrialOf .Site.Settings.Debug}}
// A CMS turns down what PHP reports; here everything counts, except what is silenced with @ (which leaves 0, or 4437 since PHP 8).
set_error_handler(static function ($level, $text, $file, $line) {
{{- if and .Site.Settings.Debug .CMSDebug}}
    if (preg_match('/^Constant ({{.DebugNames}}) already defined/', $text)) { // by us, and again by the site's own configuration
        return true;
    }
{{- end}}
    $now = error_reporting();
    if (($level & $now) !== 0 || $now === 0 || $now === 4437) {
        return false;
    }
    $name = [E_DEPRECATED => 'Deprecated', E_USER_DEPRECATED => 'Deprecated', E_NOTICE => 'Notice', E_USER_NOTICE => 'Notice', E_WARNING => 'Warning', E_USER_WARNING => 'Warning'][$level] ?? 'Notice';
    error_log("PHP $name:  $text in $file on line $line");
{{- if .Site.Settings.Debug}}
    if (ini_get('display_errors') && PHP_SAPI !== 'cli') {
        echo "<br />\n<b>$name</b>: " . htmlspecialchars($text) . " in <b>$file</b> on line <b>$line</b><br />\n";
    }
{{- end}}
    return false;
}, E_ALL);
{{- end}}
{{.CMSPrepend}}