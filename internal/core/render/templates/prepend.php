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
// Which request had PHP complain of what, and where, is noted in its log once the request is over.
(static function () {
    $said = [];
    set_error_handler(static function ($level, $text, $file, $line) use (&$said) {
{{- if and .Site.Settings.Debug .CMSDebug}}
        if (preg_match('/^Constant ({{.DebugNames}}) already defined/', $text)) { // by us, and again by the site's own configuration
            return true;
        }
{{- end}}
        $now = error_reporting();
        if (($level & $now) !== 0) {
            if (count($said) < 50) {
                $said["$file:$line"] = true;
            }
            return false;
        }
{{- if or .Site.TrialOf .Site.Settings.Debug}}
        // A CMS turns down what PHP reports; here everything counts, except what is silenced with @ (which leaves 0, or 4437 since PHP 8).
        if ($now !== 0 && $now !== 4437) {
            $name = [E_DEPRECATED => 'Deprecated', E_USER_DEPRECATED => 'Deprecated', E_NOTICE => 'Notice', E_USER_NOTICE => 'Notice',
                E_WARNING => 'Warning', E_USER_WARNING => 'Warning'][$level] ?? 'Notice';
            error_log("PHP $name:  $text in $file on line $line");
            $said["$file:$line"] = true;
{{- if .Site.Settings.Debug}}
            if (ini_get('display_errors') && PHP_SAPI !== 'cli') {
                echo "<br />\n<b>$name</b>: " . htmlspecialchars($text) . " in <b>$file</b> on line <b>$line</b><br />\n";
            }
{{- end}}
        }
{{- end}}
        return false;
    }, E_ALL);
    register_shutdown_function(static function () use (&$said) {
        $last = error_get_last();
        $fatal = E_ERROR | E_PARSE | E_CORE_ERROR | E_COMPILE_ERROR | E_USER_ERROR | E_RECOVERABLE_ERROR;
        if ($last !== null && ($last['type'] & $fatal) !== 0) {
            $said[$last['file'] . ':' . $last['line']] = true;
        }
        if ($said !== [] && function_exists('json_encode')) {
            $request = ['method' => $_SERVER['REQUEST_METHOD'] ?? '', 'uri' => substr($_SERVER['REQUEST_URI'] ?? '', 0, 400),
                'said' => array_keys($said)];
            error_log('{{.RequestMark}}' . json_encode($request, JSON_PARTIAL_OUTPUT_ON_ERROR | JSON_UNESCAPED_SLASHES));
        }
    });
})();
{{- range .Helpers}}
(static function ($file) { // a local helper
    if (!is_file($file)) {
        return;
    }
{{- if or .First (not $.HelperLoad)}}
    include_once $file; // not fatal where it went away this moment
{{- else}}
{{$.HelperLoad}}
{{- end}}
})('{{php .File}}');
{{- end}}
{{.CMSPrepend}}