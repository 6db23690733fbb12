<?php
// The lander of a Vessik parcel: uploaded beside its zip archive and opened in a browser, it lands the site there, and deletes itself. It runs
// on PHP 5.6 to 8.4, and needs mysqli, zlib and json. Nothing is done without the key that was told when it was made.
error_reporting(E_ALL);
ini_set('display_errors', '0');
set_error_handler(function ($level, $words, $file, $line) {
    if (error_reporting() & $level & (E_WARNING | E_USER_WARNING | E_RECOVERABLE_ERROR)) throw new ErrorException($words, 0, $level, $file, $line);
});
if (function_exists('mysqli_report')) mysqli_report(MYSQLI_REPORT_OFF);
const LASTS = 3600; // seconds from its upload
const BUDGET = 1.2; // seconds of one slice
$made = json_decode(base64_decode('{{made}}'), true);
$here = __DIR__;
$began = microtime(true);

class Refused extends Exception {}

// Staging is where all of it lies until it is in its place; nobody can guess its name.
function staging() { global $here, $made; return $here . '/.landing-' . $made['id']; }
function statefile() { return staging() . '/state.php'; }
function zipfile() { global $here, $made; return $here . '/' . $made['zip']; }
function late() { global $began; return microtime(true) - $began > BUDGET; }

function state() {
    $text = is_file(statefile()) ? file_get_contents(statefile()) : '';
    return $text === '' ? array('step' => 'ask') : json_decode(substr($text, strpos($text, "\n") + 1), true);
}

function keep($state) {
    $next = statefile() . '.next.php';
    if (file_put_contents($next, "<?php exit; ?>\n" . json_encode($state)) === false || !rename($next, statefile()))
        throw new Refused('What has been done so far cannot be written down: is the disk full?');
}

function entries() { // of the zip archive, by its central directory
    $zip = fopen(zipfile(), 'rb');
    $size = filesize(zipfile());
    $tail = min($size, 66000);
    fseek($zip, $size - $tail);
    $text = fread_all($zip, $tail);
    $at = strrpos($text, "PK\5\6");
    if ($at === false) throw new Refused('The archive is not whole: upload it again, in binary mode.');
    $end = unpack('vdisk/vstart/vhere/vcount/Vsize/Voffset', substr($text, $at + 4, 16));
    if ($end['offset'] == 0xFFFFFFFF || $end['count'] == 0xFFFF) { // more than the first form can count: see APPNOTE.TXT, 4.3.14
        $far = strrpos($text, "PK\6\6");
        if ($far === false) throw new Refused('The archive is not whole: upload it again, in binary mode.');
        $end = array('count' => wide($text, $far + 32), 'size' => wide($text, $far + 40), 'offset' => wide($text, $far + 48));
    }
    fseek($zip, $end['offset']);
    $text = fread_all($zip, $end['size']);
    $all = array();
    for ($i = 0, $at = 0; $i < $end['count']; $i++) {
        if (substr($text, $at, 4) !== "PK\1\2") throw new Refused('The archive is not whole: upload it again, in binary mode.');
        $e = unpack('vflags/vmethod/vtime/vdate/Vcrc/Vpacked/Vsize/vname/vextra/vcomment/vdisk/vinternal/Vexternal/Voffset', substr($text, $at + 8, 38));
        $name = substr($text, $at + 46, $e['name']);
        $extra = substr($text, $at + 46 + $e['name'], $e['extra']);
        for ($x = 0; $x + 4 <= strlen($extra); $x += 4 + $head['length']) {
            $head = unpack('vkind/vlength', substr($extra, $x, 4));
            if ($head['kind'] !== 1) continue;
            $w = $x + 4;
            foreach (array('size', 'packed', 'offset') as $what) if ($e[$what] == 0xFFFFFFFF) { $e[$what] = wide($extra, $w); $w += 8; }
        }
        if ($name === '' || $name[0] === '/' || strpos($name, "\0") !== false || strpos($name, '\\') !== false || in_array('..', explode('/', $name), true))
            throw new Refused("The archive has an entry that leads out of it: $name");
        $all[] = array($name, $e['method'], $e['packed'], $e['offset'], ($e['external'] >> 16) & 0111);
        $at += 46 + $e['name'] + $e['extra'] + $e['comment'];
    }
    fclose($zip);
    return $all;
}

function wide($text, $at) { $two = unpack('Vlow/Vhigh', substr($text, $at, 8)); return $two['low'] + $two['high'] * 4294967296; }

function fread_all($from, $bytes) {
    for ($text = ''; strlen($text) < $bytes && !feof($from);) $text .= fread($from, $bytes - strlen($text));
    if (strlen($text) < $bytes) throw new Refused('The archive is not whole: upload it again, in binary mode.');
    return $text;
}

function content($entry, $to) { // writes an entry into a file
    list(, $method, $left, $offset) = $entry;
    $zip = fopen(zipfile(), 'rb');
    fseek($zip, $offset);
    $head = unpack('vname/vextra', substr(fread_all($zip, 30), 26, 4));
    fseek($zip, $head['name'] + $head['extra'], SEEK_CUR);
    $out = fopen($to, 'wb');
    if ($method === 8) stream_filter_append($out, 'zlib.inflate', STREAM_FILTER_WRITE);
    elseif ($method !== 0) throw new Refused('The archive is compressed in a way that no parcel is.');
    for (; $left > 0; $left -= strlen($text)) {
        $text = fread_all($zip, min($left, 1 << 18));
        if (fwrite($out, $text) === false) throw new Refused('A file cannot be written: is the disk full?');
    }
    fclose($out);
    fclose($zip);
}

function text($name) {
    foreach (entries() as $entry) if ($entry[0] === $name) {
        $to = staging() . '/text.php';
        content($entry, $to);
        $text = file_get_contents($to);
        unlink($to);
        return $text;
    }
    throw new Refused("The archive has no $name: it is no parcel.");
}

function manifest() { return json_decode(text('parcel.json'), true); }

function db($state) {
    $host = $state['host'];
    $port = null;
    $socket = null;
    if (preg_match('/^(.*):(\d+)$/', $host, $found)) list(, $host, $port) = $found;
    elseif (preg_match('/^(.*?):(\/.*)$/', $host, $found)) list(, $host, $socket) = $found;
    $db = mysqli_init();
    $db->options(MYSQLI_OPT_CONNECT_TIMEOUT, 5);
    if (!@$db->real_connect($host, $state['user'], $state['password'], $state['name'], (int) $port, $socket))
        throw new Refused('The database says: ' . mysqli_connect_error() . '. Look at host, name, user and password.');
    if (!$db->set_charset('utf8mb4')) throw new Refused('The database is too old for utf8mb4: MySQL 5.5.3 or MariaDB 5.5 is needed.');
    return $db;
}

function said($db, $statement) {
    $answer = $db->query($statement);
    if ($answer === false) throw new Refused("The database says: $db->error. It was asked: " . substr($statement, 0, 200));
    return $answer;
}

function name_of($name) { return '`' . str_replace('`', '``', $name) . '`'; }

function tables_like($db, $prefix) {
    $all = array();
    $answer = said($db, "SHOW FULL TABLES LIKE '" . addcslashes($db->real_escape_string($prefix), '%_') . "%'");
    while ($row = $answer->fetch_row()) $all[$row[0]] = $row[1];
    return $all;
}

// What lies there already: neither the lander, its archive, nor what hosts put into every folder.
function others() {
    global $here, $made;
    return array_values(array_diff(preg_grep('/^\.landing-/', scandir($here), PREG_GREP_INVERT), array('.', '..', basename(__FILE__), $made['zip'],
        '.aside-' . $made['id'], '.well-known', 'cgi-bin', '.ftpquota', 'error_log')));
}

function check($asked) { // what the host is, each with whether it will do
    global $here;
    $m = manifest();
    $found = array();
    $add = function ($what, $good, $observed, $remedy) use (&$found) { $found[] = array('what' => $what, 'good' => $good, 'observed' => $observed,
        'remedy' => $good ? '' : $remedy); };
    $add('PHP', version_compare(PHP_VERSION, '5.6', '>='), PHP_VERSION, 'ask the host for PHP 5.6 or newer');
    foreach (array('mysqli', 'zlib', 'json', 'hash') as $name) $add("extension $name", extension_loaded($name), extension_loaded($name) ? 'loaded' :
        'missing', 'ask the host for it');
    $add('folder', is_writable($here), is_writable($here) ? 'can be written' : 'cannot be written', 'give PHP the right to write here');
    $free = function_exists('disk_free_space') ? @disk_free_space($here) : false;
    $needed = $m['file_bytes'] + $m['database_bytes'];
    $add('space', $free === false || $free > $needed * 1.2, $free === false ? 'is not told' : round($free / 1e6) . ' MB are free',
        'make room for ' . round($needed * 1.2 / 1e6) . ' MB');
    $aside = !empty($asked['aside']);
    $there = others();
    $add('place', !$there || $aside, $there ? 'holds ' . implode(', ', array_slice($there, 0, 8)) : 'is empty',
        'choose another folder, or have what is there kept aside');
    if (!empty($asked['name']) && $m['database']) {
        try {
            $db = db($asked);
            $add('database', true, $db->server_info, '');
            said($db, 'CREATE TABLE vessik_landing (id INT)');
            said($db, 'DROP TABLE vessik_landing');
            $tables = tables_like($db, $m['prefix']);
            $add('tables', !$tables || $aside, count($tables) . " begin with $m[prefix]", 'choose an empty database, or have what is there kept aside');
        } catch (Refused $e) {
            $add('database', false, $e->getMessage(), 'look at host, name, user and password, which the host tells');
        }
    }
    return $found;
}

function begin($asked) {
    $m = manifest();
    if ($m['database'] && empty($asked['name'])) throw new Refused('Name the database.');
    foreach (check($asked) as $each) if (!$each['good']) throw new Refused("$each[what]: $each[observed]; $each[remedy].");
    foreach (preg_grep('/^\.landing-/', scandir($GLOBALS['here'])) as $left) // of another lander, whom nobody comes back to
        if ($left !== basename(staging())) remove($GLOBALS['here'] . "/$left");
    $url = rtrim($asked['url'], '/');
    if (!preg_match('~^https?://[^/?#\s]+(/[^?#\s]*)?$~', $url)) throw new Refused('The address is written as https://orchard.example');
    keep(array('step' => 'unpack', 'at' => 0, 'host' => $asked['host'], 'name' => $asked['name'], 'user' => $asked['user'],
        'password' => $asked['password'], 'url' => $url, 'aside' => !empty($asked['aside']), 'of' => count(entries()), 'moved' => array(), 'end' => ';',
        'renamed' => array(), 'landed' => array(), 'left' => array()));
}

function unpack_slice($state) {
    $all = entries();
    $sums = array();
    foreach (explode("\n", text('SHA256SUMS')) as $line) if (strlen($line) > 66) $sums[substr($line, 66)] = substr($line, 0, 64);
    while ($state['at'] < count($all) && !late()) {
        $entry = $all[$state['at']];
        $to = staging() . '/' . $entry[0];
        if (substr($entry[0], -1) === '/') {
            if (!is_dir($to)) mkdir($to, 0755, true);
        } elseif ($entry[0] !== 'parcel.json' && $entry[0] !== 'SHA256SUMS') {
            if (!is_dir(dirname($to))) mkdir(dirname($to), 0755, true);
            content($entry, $to);
            if (!isset($sums[$entry[0]]) || hash_file('sha256', $to) !== $sums[$entry[0]])
                throw new Refused("$entry[0] is not what it was when it was packed: upload the archive again, in binary mode.");
            chmod($to, 0644 | $entry[4]);
        }
        $state['at']++;
    }
    if ($state['at'] < count($all)) return $state;
    return array('step' => is_file(staging() . '/database.sql') ? 'load' : 'place', 'at' => 0) + $state;
}

// Where the database stops half way, what has been loaded goes, and it begins again.
function load_slice($state) {
    $db = db($state);
    $m = manifest();
    if (!empty($state['open'])) { // the last slice did not end
        drop_loaded($db, $state);
        $state['at'] = 0;
        $state['end'] = ';';
        $state['landed'] = $state['left'] = array();
    } elseif ($state['at'] === 0) {
        foreach (array_keys(tables_like($db, $m['prefix'])) as $table) { // the check has seen that they may be kept aside
            $to = substr('aside_' . substr($GLOBALS['made']['id'], 0, 6) . '_' . $table, 0, 64);
            $state['renamed'][$table] = $to;
            keep($state);
            said($db, 'RENAME TABLE ' . name_of($table) . ' TO ' . name_of($to));
        }
    }
    if (!isset($state['before'])) $state['before'] = array_keys(tables_like($db, ''));
    $state['open'] = true;
    keep($state);
    foreach (array("SET SQL_MODE='NO_AUTO_VALUE_ON_ZERO'", 'SET FOREIGN_KEY_CHECKS=0') as $statement) said($db, $statement);
    $from = fopen(staging() . '/database.sql', 'rb');
    fseek($from, $state['at']);
    $rewriter = new Rewriter($m['url'], $state['url'], $m['folder'], $GLOBALS['here']);
    while (!late() && ($statement = statement($from, $state['end'])) !== null) {
        if (strncmp($statement, 'INSERT', 6) === 0) $statement = $rewriter->statement($statement);
        $made = made_by($statement);
        if ($made && in_array($made[0], array('TABLE', 'VIEW'), true)) { // noted first: what was there before is never dropped for it
            if (in_array($made[1], $state['before'], true))
                throw new Refused("The database has $made[1] already, which the site has, too: choose another database, or go back and rename it.");
            $state['landed'][] = $made;
            keep($state);
        }
        for ($again = 0; $db->query($statement) === false; $again++) {
            if ($again < 5 && preg_match("/Unknown collation: '(\w+)'/", $db->error, $found)) { // of a newer server
                $statement = str_replace($found[1], 'utf8mb4_unicode_ci', $statement);
                continue;
            }
            if (preg_match('/^CREATE .*\b(VIEW|TRIGGER|PROCEDURE|FUNCTION|EVENT)\b/i', substr($statement, 0, 300), $found)) { // hosts allow few of them
                $state['left'][] = strtolower($found[1]) . ": $db->error";
                $made = null;
                break;
            }
            throw new Refused("The database says: $db->error. It was asked: " . substr($statement, 0, 200));
        }
        if ($made && !in_array($made[0], array('TABLE', 'VIEW'), true)) $state['landed'][] = $made;
        $state['at'] = ftell($from);
    }
    if (ftell($from) >= filesize(staging() . '/database.sql')) $state = array('step' => 'place', 'at' => 0) + $state;
    $state['open'] = false;
    return $state;
}

// made_by is what a statement makes that has to be dropped by itself: its kind and its name.
function made_by($statement) {
    if (!preg_match('/^CREATE\s[^`]*?\b(TABLE|VIEW|PROCEDURE|FUNCTION|EVENT)\s+`((?:[^`]|``)+)`/i', substr($statement, 0, 400), $found)) return null;
    return array(strtoupper($found[1]), str_replace('``', '`', $found[2]));
}

function drop_loaded($db, $state) {
    said($db, 'SET FOREIGN_KEY_CHECKS=0');
    foreach ($state['landed'] as $made) said($db, "DROP $made[0] IF EXISTS " . name_of($made[1]));
}

function statement($from, &$end) { // the next one of a dump as Vessik writes them: its end is the end of a line
    for ($text = ''; ($line = fgets($from)) !== false;) {
        if ($text === '' && rtrim($line) === '') continue;
        if ($text === '' && strncmp($line, 'DELIMITER ', 10) === 0) {
            $end = trim(substr($line, 10));
            continue;
        }
        $text .= $line;
        $line = rtrim($line, "\r\n");
        if (substr($line, -strlen($end)) === $end) return substr(rtrim($text, "\r\n"), 0, -strlen($end));
    }
    return trim($text) === '' ? null : $text;
}

// Rewriter puts one address in the place of another in rows, also where texts tell their lengths.
class Rewriter {
    private $pairs = array();

    public function __construct($from, $to, $folder, $here) {
        if ($from === $to) $from = '';
        if ($from !== '') {
            $old = preg_replace('~^https?:~', '', $from);
            $new = preg_replace('~^https?:~', '', $to);
            $scheme = substr($to, 0, strpos($to, ':') + 1);
            foreach (array('', 'http:', 'https:') as $each) $this->pair($each . $old, ($each === '' ? '' : $scheme) . $new);
        }
        if ($folder !== '' && $folder !== $here) $this->pair($folder, $here);
        krsort($this->pairs);
    }

    private function pair($old, $new) {
        foreach (array(function ($t) { return $t; }, function ($t) { return str_replace('/', '\\/', $t); }, 'rawurlencode') as $as)
            $this->pairs[$as($old)] = $as($new);
    }

    public function statement($text) {
        $found = false;
        foreach ($this->pairs as $old => $new) $found = $found || strpos($text, str_replace('\\', '\\\\', $old)) !== false;
        if (!$found) return $text;
        $out = '';
        for ($at = 0, $length = strlen($text); $at < $length;) {
            $plain = strcspn($text, "'", $at);
            $out .= substr($text, $at, $plain);
            if (($at += $plain) >= $length) break;
            for ($end = $at + 1; $end < $length; $end++) {
                $end += strcspn($text, "'\\", $end);
                if ($end < $length && $text[$end] === '\\') { $end++; continue; }
                break;
            }
            $out .= "'" . $this->escape($this->value($this->unescape(substr($text, $at + 1, $end - $at - 1)))) . "'";
            $at = $end + 1;
        }
        return $out;
    }

    private function unescape($text) {
        return strpos($text, '\\') === false ? $text : preg_replace_callback('/\\\\(.)/s', function ($m) {
            $letters = array('n' => "\n", 'r' => "\r", '0' => "\0", 'Z' => "\x1a");
            return isset($letters[$m[1]]) ? $letters[$m[1]] : $m[1];
        }, $text);
    }

    private function escape($text) {
        return strtr($text, array('\\' => '\\\\', "'" => "\\'", "\n" => '\\n', "\r" => '\\r', "\0" => '\\0', "\x1a" => '\\Z'));
    }

    public function value($text) {
        $any = false;
        foreach ($this->pairs as $old => $new) $any = $any || strpos($text, (string) $old) !== false;
        if (!$any) return $text;
        if (!preg_match('/^(?:[aOCEs]:\d+:|N;|b:)/', $text)) return $this->plain($text);
        $out = '';
        for ($at = 0; preg_match('/s:(\d+):"/', $text, $found, PREG_OFFSET_CAPTURE, $at);) { // texts that tell their length, in PHP's own form
            $begin = $found[0][1] + strlen($found[0][0]);
            $bytes = (int) $found[1][0];
            if (substr($text, $begin + $bytes, 2) !== '";') { // it only looks like one
                $out .= $this->plain(substr($text, $at, $begin - $at));
                $at = $begin;
                continue;
            }
            $inner = $this->value(substr($text, $begin, $bytes));
            $out .= substr($text, $at, $found[0][1] - $at) . 's:' . strlen($inner) . ':"' . $inner . '";';
            $at = $begin + $bytes + 2;
        }
        return $out . substr($text, $at);
    }

    private function plain($text) { // an address ends where its host cannot go on
        foreach ($this->pairs as $old => $new)
            $text = preg_replace_callback('~' . preg_quote($old, '~') . '(?![A-Za-z0-9-]|[.:][A-Za-z0-9])~', function () use ($new) { return $new; }, $text);
        return $text;
    }
}

function configure($state, $m) {
    global $made;
    foreach ($made['caches'] as $cache) // what is in them has the former address
        if (is_dir(staging() . "/files/$cache"))
            foreach (array_diff(scandir(staging() . "/files/$cache"), array('.', '..', '.htaccess')) as $name) remove(staging() . "/files/$cache/$name");
    $file = staging() . '/files/' . $m['configuration'];
    if ($m['configuration'] === '' || !is_file($file)) return;
    $text = file_get_contents($file);
    $values = array('address' => $state['host'], 'host' => preg_replace('/:\d+$/', '', $state['host']), 'port' => preg_match('/:(\d+)$/',
        $state['host'], $found) ? $found[1] : '3306', 'name' => $state['name'], 'user' => $state['user'], 'password' => $state['password'],
        'prefix' => $m['prefix'], 'stem' => preg_replace('/_$/', '', $m['prefix']), 'domain' => preg_replace('~^https?://~', '', $state['url']));
    foreach ($made['values'] as $each) {
        $value = $each['of'] === 'secret' ? secret() : (isset($values[$each['of']]) ? $values[$each['of']] : null);
        if ($value === null || !preg_match($each['pattern'], $text, $found, PREG_OFFSET_CAPTURE)) continue;
        foreach (array('quoted', 'value', 'value2') as $group) if (isset($found[$group]) && $found[$group][1] >= 0) {
            list($was, $at) = $found[$group];
            if ($group !== 'quoted' && $each['literal']) { $at--; $was .= "''"; }
            if ($group === 'quoted' || $each['literal']) $value = "'" . strtr($value, array('\\' => '\\\\', "'" => "\\'")) . "'";
            $text = substr($text, 0, $at) . $value . substr($text, $at + strlen($was));
            break;
        }
    }
    file_put_contents($file, $text);
    $below = rtrim((string) parse_url($state['url'], PHP_URL_PATH), '/');
    $rules = staging() . '/files/.htaccess';
    if ($below !== '' && is_file($rules)) file_put_contents($rules, preg_replace(array('~^(\s*RewriteBase )/\s*$~m', '~^(\s*RewriteRule \. )/index\.php~m'),
        array("$1$below/", "$1$below/index.php"), file_get_contents($rules)));
}

function secret() {
    $bytes = function_exists('random_bytes') ? random_bytes(48) : openssl_random_pseudo_bytes(48);
    return strtr(base64_encode($bytes), '+/', '-_');
}

function place_slice($state) {
    global $here, $made;
    $m = manifest();
    $aside = $here . '/.aside-' . $made['id'];
    if (empty($state['placing'])) {
        configure($state, $m);
        $there = others();
        if ($there && !$state['aside']) throw new Refused('Something has come into the folder meanwhile: ' . implode(', ', array_slice($there, 0, 8)));
        $state['placing'] = true;
        $state['moved'] = $there;
        keep($state);
        if ($there && !is_dir($aside)) {
            mkdir($aside, 0700);
            file_put_contents($aside . '/.htaccess', "Require all denied\n");
        }
    }
    foreach ($state['moved'] as $name) if (file_exists("$here/$name") && !file_exists("$aside/$name")) rename("$here/$name", "$aside/$name");
    foreach (array_diff(scandir(staging() . '/files'), array('.', '..')) as $name) {
        if ($name === '.well-known' && is_dir("$here/$name")) continue;
        if (!rename(staging() . "/files/$name", "$here/$name")) throw new Refused("$name cannot be put into its place.");
    }
    return array('step' => 'prove') + $state;
}

function prove($state) { // asks the front page from here, as a visitor would
    $m = manifest();
    list($status, $page) = fetch($state['url'] . '/');
    $state['step'] = 'landed';
    $title = html_entity_decode($m['title'], ENT_QUOTES, 'UTF-8');
    if ($status === 0) $state['proof'] = "The front page could not be asked from the host itself ($page): open it, and look.";
    elseif ($status !== 200) $state['proof'] = "The front page answers $status.";
    elseif ($title !== '' && strpos(html_entity_decode($page, ENT_QUOTES, 'UTF-8'), $title) === false) $state['proof'] = 'The front page does not bear the site\'s title.';
    else $state['proof'] = '';
    return $state;
}

function fetch($address) {
    for ($hops = 0; $hops < 4; $hops++) {
        $to = parse_url($address);
        $safe = $to['scheme'] === 'https';
        $host = $to['host'] . (isset($to['port']) ? ":$to[port]" : '');
        $context = stream_context_create(array('ssl' => array('verify_peer' => false, 'verify_peer_name' => false, 'SNI_enabled' => true)));
        try {
            $socket = stream_socket_client(($safe ? 'ssl' : 'tcp') . "://$to[host]:" . (isset($to['port']) ? $to['port'] : ($safe ? 443 : 80)), $number, $words, 5,
                STREAM_CLIENT_CONNECT, $context);
        } catch (ErrorException $e) {
            return array(0, $e->getMessage());
        }
        stream_set_timeout($socket, 10);
        fwrite($socket, 'GET ' . (isset($to['path']) ? $to['path'] : '/') . (isset($to['query']) ? "?$to[query]" : '') . " HTTP/1.0\r\nHost: $host\r\n" .
            "User-Agent: Vessik-lander\r\nConnection: close\r\n\r\n");
        $answer = (string) stream_get_contents($socket, 4 << 20);
        fclose($socket);
        if (!preg_match('~^HTTP/\S+ (\d+)~', $answer, $found)) return array(0, 'no answer');
        if ((int) $found[1] >= 300 && (int) $found[1] < 400 && preg_match('~^Location:\s*(\S+)~mi', $answer, $next) && preg_match('~^https?://~', $next[1])) {
            $address = $next[1];
            continue;
        }
        return array((int) $found[1], $answer);
    }
    return array((int) $found[1], '');
}

function remove($path) {
    if (is_link($path) || !is_dir($path)) { if (is_link($path) || file_exists($path)) unlink($path); return; }
    foreach (array_diff(scandir($path), array('.', '..')) as $name) remove("$path/$name");
    rmdir($path);
}

function go_back($state) { // to what was there before
    global $here, $made;
    $aside = $here . '/.aside-' . $made['id'];
    if (!empty($state['placing'])) {
        foreach (others() as $name) // but what was not moved yet
            if (!in_array($name, $state['moved'], true) || file_exists("$aside/$name")) remove("$here/$name");
        foreach ($state['moved'] as $name) if (file_exists("$aside/$name")) rename("$aside/$name", "$here/$name");
        remove($aside);
    }
    if (!empty($state['landed']) || !empty($state['renamed'])) {
        $db = db($state);
        drop_loaded($db, $state);
        foreach ($state['renamed'] as $table => $was) if (tables_like($db, $was)) said($db, 'RENAME TABLE ' . name_of($was) . ' TO ' . name_of($table));
    }
    remove(staging());
    return array('step' => 'ask');
}

function finish() { // nothing of the lander stays; what was kept aside does
    remove(staging());
    remove(zipfile());
    unlink(__FILE__);
}

function refuse($status, $words) {
    http_response_code($status);
    echo json_encode(array('refused' => $words));
}

function answer($asked) {
    global $made, $here;
    if (!is_string($asked['key']) || !hash_equals($made['key'], hash('sha256', $asked['key']))) throw new Refused('That is not the key.');
    if (time() - filectime(__FILE__) > LASTS) throw new Refused('An hour has gone by since the lander was uploaded: upload it again.');
    if (!is_file(zipfile())) throw new Refused("Upload $made[zip] beside the lander.");
    if (!is_dir(staging())) {
        mkdir(staging(), 0700);
        file_put_contents(staging() . '/.htaccess', "Require all denied\nDeny from all\n");
    }
    $lock = fopen(staging() . '/lock.php', 'c');
    if (!flock($lock, LOCK_EX | LOCK_NB)) throw new Refused('It is at work already: wait a moment.');
    $state = state();
    $do = isset($asked['do']) ? $asked['do'] : '';
    if ($do === 'check') return array('step' => $state['step'], 'checks' => check($asked));
    if ($do === 'begin' && $state['step'] === 'ask') { begin($asked); $state = state(); }
    elseif ($do === 'back') { return go_back($state); }
    elseif ($do === 'finish' && $state['step'] === 'landed') { finish(); return array('step' => 'finished'); }
    elseif ($do === 'on') {
        $steps = array('unpack' => 'unpack_slice', 'load' => 'load_slice', 'place' => 'place_slice', 'prove' => 'prove');
        if (isset($steps[$state['step']])) { $state = call_user_func($steps[$state['step']], $state); keep($state); }
    }
    $shown = array_intersect_key($state, array_flip(array('step', 'proof', 'left', 'url', 'at')));
    $shown['kept'] = !empty($state['moved']) ? '.aside-' . $made['id'] : '';
    if ($state['step'] === 'unpack') $shown['of'] = $state['of'];
    if ($state['step'] === 'load') $shown['of'] = filesize(staging() . '/database.sql');
    return $shown;
}

header('Cache-Control: no-store');
header('X-Robots-Tag: noindex');
header("Content-Security-Policy: default-src 'none'; script-src 'unsafe-inline'; style-src 'unsafe-inline'; connect-src 'self'; form-action 'none'");
if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    header('Content-Type: application/json');
    @set_time_limit(30);
    try {
        echo json_encode(answer($_POST + array('key' => '', 'host' => '', 'name' => '', 'user' => '', 'password' => '', 'url' => '')));
    } catch (Refused $e) {
        refuse(409, $e->getMessage());
    } catch (Exception $e) {
        refuse(500, 'PHP says: ' . $e->getMessage() . ' (line ' . $e->getLine() . ')');
    } catch (Throwable $e) { // of PHP 7 and newer
        refuse(500, 'PHP says: ' . $e->getMessage() . ' (line ' . $e->getLine() . ')');
    }
    exit;
}
$scheme = !empty($_SERVER['HTTPS']) && $_SERVER['HTTPS'] !== 'off' || isset($_SERVER['HTTP_X_FORWARDED_PROTO']) &&
    $_SERVER['HTTP_X_FORWARDED_PROTO'] === 'https' ? 'https' : 'http';
$url = htmlspecialchars("$scheme://$_SERVER[HTTP_HOST]" . rtrim(dirname(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH)), '/'), ENT_QUOTES);
header('Content-Type: text/html; charset=utf-8');
?><!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Landing a site</title>
<style>
:root { color-scheme: light dark; --ink: light-dark(#20252b, #eceade); --soft: light-dark(#5d6468, #a9a698); --sheet: light-dark(#f5f2e9, #1c2024); --go: light-dark(#9a3412, #f0a27c); }
body { font: 16px/1.5 system-ui, sans-serif; max-width: 38rem; margin: 8vh auto; padding: 0 1.2rem; background: var(--sheet); color: var(--ink); }
label { display: block; margin: .8rem 0; font-size: .85rem; color: var(--soft); }
input:not([type=checkbox]) { display: block; width: 100%; box-sizing: border-box; font: 15px ui-monospace, monospace; padding: .3rem 0; border: 0;
  border-bottom: 1px solid var(--soft); background: none; color: var(--ink); }
button { font: inherit; padding: .4rem 1rem; border: 1px solid var(--ink); border-radius: 3px; background: var(--ink); color: var(--sheet); cursor: pointer; margin: 1rem .7rem 0 0; }
button.plain { background: none; color: var(--ink); } li.bad { color: var(--go); } #refused { color: var(--go); font-weight: 600; } progress { width: 100%; accent-color: var(--go); }
</style>
<h1>Landing a site</h1>
<form id="ask">
<p>The key was told when the parcel was made; the database is the host's.</p>
<label>Key <input name="key" required autocomplete="off"></label>
<label>Database host <input name="host" value="localhost"></label>
<label>Database <input name="name"></label>
<label>Its user <input name="user" autocomplete="off"></label>
<label>Its password <input name="password" type="password" autocomplete="off"></label>
<label>Address that the site is to have <input name="url" value="<?php echo $url; ?>"></label>
<label><input type="checkbox" name="aside" value="1"> Keep aside what is there already, so that it can come back</label>
<button>Land the site</button> <button type="button" class="plain" id="look">Look at the host first</button>
</form>
<ul id="checks"></ul><div id="work" hidden><p id="step" role="status"></p><progress id="bar"></progress></div><p id="refused" role="alert"></p><p id="end"></p>
<script>
const $ = (id) => document.getElementById(id), form = $('ask')
const words = { unpack: 'Unpacking the files', load: 'Loading the database', place: 'Putting them into their place', prove: 'Asking the front page' }
async function ask(what) {
  const body = new FormData(form); body.set('do', what)
  const answer = await fetch(location.pathname, { method: 'POST', body }), said = await answer.json()
  if (said.refused) throw new Error(said.refused)
  return said
}
let begun = false
async function tried(work) {
  $('refused').textContent = ''
  $('end').replaceChildren()
  try { await work() } catch (e) { $('refused').textContent = e.message; if (begun) button('Go back to what was there', 'back') }
}
function button(text, what) {
  const b = document.createElement('button'); b.textContent = text; b.className = what === 'back' ? 'plain' : ''
  b.onclick = () => tried(async () => {
    await ask(what); begun = false; $('work').hidden = true; form.hidden = what !== 'back'
    $('end').textContent = what === 'back' ? 'Everything is as it was.' : 'The lander and its archive are gone.'
  })
  $('end').append(b)
}
$('look').onclick = () => tried(async () => {
  $('checks').replaceChildren(...(await ask('check')).checks.map((c) => { const li = document.createElement('li'); li.className = c.good ? '' : 'bad'
    li.textContent = `${c.what}: ${c.observed}${c.remedy ? '; ' + c.remedy : ''}`; return li }))
})
form.onsubmit = (e) => { e.preventDefault(); tried(async () => {
  let said = await ask('begin'); begun = true; $('work').hidden = false
  while (words[said.step]) { $('step').textContent = words[said.step]; if (said.of) { $('bar').max = said.of; $('bar').value = said.at } else $('bar').removeAttribute('value'); said = await ask('on') }
  form.hidden = true; $('work').hidden = true; $('checks').replaceChildren()
  $('end').textContent = (said.proof || 'The site has landed, and its front page answers.') + (said.left.length ? ' Not allowed here: ' + said.left.join('; ') + '.' : '') + (said.kept ? ` What was there is in ${said.kept}. ` : ' ')
  const a = document.createElement('a'); a.href = said.url; a.textContent = said.url; $('end').append(a, document.createElement('br'))
  button('Remove the lander', 'finish'); button('Go back to what was there', 'back')
}) }
</script>
