<?php // Answers a check's request from inside a site: what runs here, and what of it can be reached; written by Vessik.
(static function () {
    mysqli_report(MYSQLI_REPORT_OFF);
    error_reporting(0);
    $ask = json_decode(file_get_contents('php://input'), true) ?: [];
    $answer = ['site' => $ask['site'] ?? '', 'php' => PHP_VERSION, 'web' => $_SERVER['SERVER_SOFTWARE'] ?? '', 'read' => [], 'sockets' => [], 'databases' => [], 'touched' => []];
    if (isset($ask['database'])) {
        $d = $ask['database'];
        $link = mysqli_init();
        if (@$link->real_connect($d['host'], $d['user'], $d['password'], $d['name'], $d['port'])) {
            $answer['database'] = $link->query('SELECT VERSION()')->fetch_row()[0];
            if (!empty($ask['info'])) {
                foreach ($link->query('SHOW VARIABLES')->fetch_all() as $row) {
                    $answer['variables'][$row[0]] = (string) $row[1];
                }
            }
            foreach ($link->query('SHOW DATABASES')->fetch_all() as $row) {
                $answer['databases'][] = $row[0];
            }
            foreach ($ask['statements'] ?? [] as $statement) { // each one must be refused
                if ($link->query($statement)) {
                    $answer['touched'][] = $statement;
                }
            }
        } else {
            $answer['database_error'] = $link->connect_error;
        }
    }
    if (!empty($ask['info'])) {
        $answer['about'] = ['version' => PHP_VERSION, 'interface' => PHP_SAPI, 'built for' => PHP_OS . ' ' . php_uname('m'), 'Zend engine' => zend_version(),
            'php.ini' => (string) php_ini_loaded_file(), 'integer bits' => (string) (PHP_INT_SIZE * 8), 'thread safe' => PHP_ZTS ? 'yes' : 'no'];
        foreach (array_merge(get_loaded_extensions(), get_loaded_extensions(true)) as $name) {
            $answer['extensions'][$name] = (string) (phpversion($name) ?: 'loaded');
        }
        foreach (ini_get_all(null, false) as $name => $value) {
            $answer['settings'][$name] = (string) $value;
        }
    }
    foreach ($ask['paths'] ?? [] as $path) {
        if (is_dir($path) ? @scandir($path) !== false : @file_get_contents($path, false, null, 0, 1) !== false) {
            $answer['read'][] = "PHP: $path";
        }
    }
    if (!empty($ask['paths']) && function_exists('proc_open')) {
        $script = 'for p in "$@"; do if [ -d "$p" ]; then ls "$p" >/dev/null 2>&1 && echo "$p"; else head -c 1 "$p" >/dev/null 2>&1 && echo "$p"; fi; done; echo ran';
        $process = proc_open(['/bin/sh', '-c', $script, 'sh', ...$ask['paths']], [1 => ['pipe', 'w']], $pipes);
        $lines = $process ? explode("\n", trim(stream_get_contents($pipes[1]))) : [];
        $answer['command'] = array_pop($lines) === 'ran';
        foreach ($lines as $path) {
            $answer['read'][] = "command: $path";
        }
    }
    foreach ($ask['sockets'] ?? [] as $socket) {
        if (@stream_socket_client('unix://' . $socket, $code, $message, 1)) {
            $answer['sockets'][] = $socket;
        }
    }
    if (isset($ask['mail'])) { // to nobody, by PHP's own way and by SMTP to a machine that there is not (RFC 5737)
        if (function_exists('mail') && @mail('nobody@vessik.invalid', $ask['mail'], 'A check.', "From: check@vessik.invalid\r\n")) {
            $answer['mailed'][] = 'sendmail';
        }
        $server = function_exists('fsockopen') ? @fsockopen('192.0.2.25', 25, $code, $message, 3) : false;
        $answer['mail_server'] = function_exists('fsockopen') ? '' : 'its PHP opens no connections';
        if ($server) {
            stream_set_timeout($server, 3);
            $answer['mail_server'] = trim((string) fgets($server));
            $text = "From: check@vessik.invalid\r\nSubject: " . $ask['mail'] . "\r\n\r\nA check.\r\n.";
            foreach (['HELO vessik.invalid', 'MAIL FROM:<check@vessik.invalid>', 'RCPT TO:<nobody@vessik.invalid>', 'DATA', $text, 'QUIT'] as $line) {
                fwrite($server, "$line\r\n");
                $said = (string) fgets($server);
            }
            if (substr($said, 0, 3) === '221') {
                $answer['mailed'][] = 'smtp';
            }
            fclose($server);
        }
    }
    header('Content-Type: application/json');
    header('Cache-Control: no-store');
    echo json_encode($answer);
})();
