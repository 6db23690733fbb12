<?php
// A helper of Vessik, for the time of one move: it answers whoever signs with the key below, and takes itself away a quarter of an hour after
// it was last asked. It runs on PHP 5.6 to 8.4, and needs mysqli, json and hash.
error_reporting(E_ALL);
ini_set('display_errors', '0');
ini_set('zlib.output_compression', '0');
set_error_handler(function ($level, $words, $file, $line) {
    if (error_reporting() & $level & (E_WARNING | E_USER_WARNING | E_RECOVERABLE_ERROR)) throw new ErrorException($words, 0, $level, $file, $line);
});
if (function_exists('mysqli_report')) mysqli_report(MYSQLI_REPORT_OFF);
const KEY = '{{key}}';
const LASTS = 900; // seconds
const WINDOW = 300; // seconds that a request is old at most, by the clock of this machine
$here = {{here}};
$began = microtime(true);

class Refused extends Exception {}

// statefile lies beside the helper, or where PHP may not write there, among the machine's passing files.
function statefile() { return (is_writable(__DIR__) ? __DIR__ : sys_get_temp_dir()) . '/' . basename(__FILE__, '.php') . '.state.php'; }
function asked_at() { return max(filemtime(__FILE__), is_file(statefile()) ? filemtime(statefile()) : 0); }

function gone() { // nothing of the helper stays
    if (is_file(statefile())) @unlink(statefile());
    @unlink(__FILE__);
}

// The longest that one request may work, in seconds: some hosts end it by their own clock.
function budget() {
    global $limit;
    $most = $limit = (int) ini_get('max_execution_time'); // before it is asked for another one
    if (@set_time_limit(60) || $most <= 0) $most = 60;
    return max(1, min(10, $most / 3));
}
function late() { global $began, $budget; return microtime(true) - $began > $budget; }

// What is answered is a row of frames, each with its kind and length: D for data, E for the end, which is JSON; and behind them the signature of
// all of them.
function frame($kind, $text) {
    global $signature;
    $frame = $kind . strlen($text) . "\n" . $text;
    hash_update($signature, $frame);
    echo $frame;
}

function json($value) {
    $text = json_encode($value);
    if ($text === false) throw new Refused('An answer cannot be written as JSON: ' . json_last_error_msg());
    return $text;
}

function configuration($asked) { // its text
    global $here;
    $path = $here . '/' . $asked['file'];
    if (!is_file($path) && $asked['above'] && @is_file(dirname($here) . '/' . $asked['file'])) $path = dirname($here) . '/' . $asked['file'];
    if (!is_file($path)) throw new Refused("$asked[file] is not here");
    return file_get_contents($path);
}

// values are what a configuration says of the database.
function values($asked) {
    if (empty($asked['file'])) return array();
    $text = configuration($asked);
    $values = array();
    foreach ($asked['values'] as $each) {
        if (!preg_match($each['pattern'], $text, $found)) continue;
        foreach (array('quoted', 'value', 'value2') as $group) if (isset($found[$group]) && $found[$group] !== '') {
            $value = $found[$group];
            if ($group === 'quoted') $value = substr($value, 1, -1);
            $values[$each['of']] = preg_replace('/\\\\([\\\\\'"])/', '$1', $value);
            break;
        }
    }
    if (isset($values['stem']) && !isset($values['prefix'])) $values['prefix'] = $values['stem'] . '_';
    return $values;
}

function db($asked) {
    $v = values($asked) + array('address' => '', 'host' => '', 'port' => '', 'user' => '', 'password' => '', 'name' => '');
    if ($v['name'] === '') throw new Refused('the configuration does not say which database');
    $host = $v['address'] !== '' ? $v['address'] : $v['host'];
    $port = (int) $v['port'];
    $socket = null;
    if (preg_match('/^(.*):(\d+)$/', $host, $found)) list(, $host, $port) = $found;
    elseif (preg_match('/^(.*?):(\/.*)$/', $host, $found)) list(, $host, $socket) = $found;
    if ($host === '') $host = $port ? '127.0.0.1' : 'localhost';
    $db = mysqli_init();
    $db->options(MYSQLI_OPT_CONNECT_TIMEOUT, 5);
    if (!@$db->real_connect($host, $v['user'], $v['password'], $v['name'], (int) $port, $socket)) throw new Refused('the database says: ' .
        mysqli_connect_error());
    if (!$db->set_charset('utf8mb4')) throw new Refused('the database is too old for utf8mb4');
    return $db;
}

function said($db, $statement, $mode = MYSQLI_STORE_RESULT) {
    $answer = $db->query($statement, $mode);
    if ($answer === false) throw new Refused("the database says: $db->error");
    return $answer;
}

function rows($db, $statement) {
    for ($all = array(), $answer = said($db, $statement); $row = $answer->fetch_row();) $all[] = $row;
    return $all;
}

function name_of($name) { return '`' . str_replace('`', '``', $name) . '`'; }

function look($asked) { // what the host is
    global $here, $budget, $limit;
    $free = function_exists('disk_free_space') ? @disk_free_space($here) : false;
    $extensions = get_loaded_extensions();
    $found = array('php' => PHP_VERSION, 'system' => PHP_OS, 'server' => isset($_SERVER['SERVER_SOFTWARE']) ? $_SERVER['SERVER_SOFTWARE'] : '',
        'now' => time(), 'folder' => $here, 'writable' => is_writable($here),
        'free' => $free === false ? -1 : (float) $free, 'case' => !is_file(strtoupper(__FILE__)), 'budget' => $budget, 'memory' => ini_get('memory_limit'),
        'upload' => ini_get('upload_max_filesize'), 'post' => ini_get('post_max_size'), 'time' => $limit,
        'extensions' => $extensions, 'database' => '', 'fault' => '', 'configuration' => '', 'prefix' => '', 'bytes' => 0, 'tables' => array());
    if (empty($asked['file'])) return $found;
    try {
        $found['configuration'] = base64_encode(configuration($asked));
        $values = values($asked);
        $found['prefix'] = isset($values['prefix']) ? $values['prefix'] : '';
        $db = db($asked);
        $found['database'] = $db->server_info;
        foreach (rows($db, "SELECT TABLE_NAME, COALESCE(DATA_LENGTH,0)+COALESCE(INDEX_LENGTH,0) FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE()
            AND TABLE_TYPE='BASE TABLE' ORDER BY 1") as $row) {
            $found['tables'][] = $row[0];
            $found['bytes'] += (float) $row[1];
        }
    } catch (Refused $e) {
        $found['fault'] = $e->getMessage();
    }
    return $found;
}

// files lists all that lies here, from where the last answer ended: folders that are still to be looked into, and what was read of the first.
function files($asked) {
    global $here;
    $left = $asked['left'];
    $text = '';
    while ($left && !late()) {
        $folder = array_shift($left);
        $path = $folder === '' ? $here : $here . '/' . $folder;
        if (!is_dir($path) || is_link($path) && $folder !== '') continue;
        try { $names = scandir($path); } catch (ErrorException $e) { $text .= json(array('denied', base64_encode($folder))) . "\n"; continue; }
        foreach ($names as $name) {
            if ($name === '.' || $name === '..') continue;
            $below = $folder === '' ? $name : "$folder/$name";
            if ("$here/$below" === __FILE__ || "$here/$below" === statefile()) continue;
            if (in_array($below, $asked['without'], true) || preg_match('/^\.?move-[a-z2-7]{20}(\.state)?(\.php)?$/', $name)) continue; // ours
            $info = @lstat("$here/$below");
            if (!$info) continue;
            $kind = $info['mode'] & 0170000;
            if ($kind === 0040000) { $left[] = $below; $text .= json(array('folder', base64_encode($below))) . "\n"; }
            elseif ($kind === 0100000) $text .= json(array('file', base64_encode($below), $info['size'], $info['mtime'], $info['mode'] & 0111 ? 1 : 0)) . "\n";
            else $text .= json(array('other', base64_encode($below))) . "\n";
        }
        if (strlen($text) > 1 << 18) { frame('D', $text); $text = ''; }
    }
    frame('D', $text);
    return array('left' => array_values($left));
}

function hashes($asked) { // of files, from where the last answer ended
    global $here;
    $sums = array();
    foreach ($asked['names'] as $name) {
        if (late()) break;
        $name = base64_decode($name);
        try { $sums[] = is_link("$here/$name") ? '' : hash_file('sha256', "$here/$name"); } catch (ErrorException $e) { $sums[] = ''; }
    }
    return array('sums' => $sums);
}

function query($asked) { return array('rows' => array_map(function ($row) { return array_map('base64_encode', array_map('strval', $row)); },
    array_slice(rows(db($asked), $asked['statement']), 0, 1000))); }

function text_of($value) {
    if ($value === null) return 'NULL';
    if (!preg_match('//u', $value)) return "X'" . bin2hex($value) . "'";
    return "'" . strtr($value, array('\\' => '\\\\', "'" => "\\'", "\n" => '\\n', "\r" => '\\r', "\0" => '\\0', "\x1a" => '\\Z')) . "'";
}

// dump writes the database as it is at one moment, from the table and the row at which the last answer ended.
function dump($asked) {
    $db = db($asked);
    said($db, 'SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ');
    @$db->query('SET SESSION net_write_timeout=600');
    said($db, 'START TRANSACTION WITH CONSISTENT SNAPSHOT');
    $tables = array();
    foreach (rows($db, "SHOW FULL TABLES WHERE Table_type='BASE TABLE'") as $row) $tables[] = $row[0];
    sort($tables, SORT_STRING);
    if ($asked['table'] === '') frame('D', "SET NAMES utf8mb4;\nSET FOREIGN_KEY_CHECKS=0;\nSET SQL_MODE='NO_AUTO_VALUE_ON_ZERO';\n");
    foreach ($tables as $table) {
        if (strcmp($table, $asked['table']) < 0) continue;
        $at = $table === $asked['table'] ? (int) $asked['row'] : 0;
        if ($at === 0) {
            if (late()) return array('table' => $table, 'row' => 0);
            $create = rows($db, 'SHOW CREATE TABLE ' . name_of($table));
            frame('D', $create[0][1] . ";\n");
        }
        if (in_array($table, $asked['empty'], true)) continue;
        $ended = dump_rows($db, $table, $at, masks($asked, $table));
        if ($ended >= 0) return array('table' => $table, 'row' => $ended);
    }
    foreach (array('FUNCTION' => "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE='FUNCTION' ORDER BY 1",
        'PROCEDURE' => "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE='PROCEDURE' ORDER BY 1",
        'VIEW' => 'SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA=DATABASE() ORDER BY 1',
        'TRIGGER' => 'SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() ORDER BY ACTION_ORDER, 1') as $kind => $list)
        foreach (rows($db, $list) as $row) {
            $answer = said($db, "SHOW CREATE $kind " . name_of($row[0]))->fetch_assoc();
            foreach (array('Create View', 'Create Function', 'Create Procedure', 'SQL Original Statement') as $column) if (!empty($answer[$column]))
                frame('D', "DELIMITER //END//\n" . preg_replace('/DEFINER=`(?:[^`]|``)*`@`(?:[^`]|``)*` /', '', $answer[$column], 1) . "\n//END//\nDELIMITER ;\n");
        }
    return array('table' => '', 'row' => 0);
}

// masks are the expressions that stand for columns of a table.
function masks($asked, $table) {
    foreach ($asked['masks'] as $each) if (is_table($asked, $each['table'], $table)) return $each['columns'];
    return array();
}

// sums tell tables from what they are at another time, but for rows that change by themselves.
function sums($asked) {
    $sums = array();
    $db = $asked['tables'] ? db($asked) : null;
    $now = $db ? tables_now($db) : array();
    foreach ($asked['tables'] as $table) {
        if (late()) break;
        $sums[] = in_array($table, $now, true) ? sum_of($db, $table, still($asked, $table)) : '';
    }
    return array('sums' => $sums);
}

// still are the patterns of a table's rows that change by themselves.
function still($asked, $table) {
    $patterns = array();
    foreach ($asked['restless'] as $each) if (is_table($asked, $each['table'], $table)) $patterns[] = "\x01$each[rows]\x01";
    return $patterns;
}

function sum_of($db, $table, $patterns) {
    $columns = array();
    foreach (rows($db, 'SHOW COLUMNS FROM ' . name_of($table)) as $row) if (strpos($row[5], 'GENERATED') === false) $columns[] = name_of($row[0]);
    if (!$patterns) {
        $one = "CONCAT_WS(','" . implode('', array_map(function ($c) { return ",COALESCE(MD5(CAST($c AS BINARY)),'-')"; }, $columns)) . ')';
        $sum = rows($db, "SELECT CONCAT(COUNT(*),' ',BIT_XOR(CAST(CONV(LEFT(MD5($one),16),16,10) AS UNSIGNED))) FROM " . name_of($table));
        return $sum[0][0];
    }
    $answer = said($db, 'SELECT ' . implode(',', $columns) . ' FROM ' . name_of($table), MYSQLI_USE_RESULT);
    for ($count = 0, $sum = str_repeat("\0", 16); $row = $answer->fetch_row();) {
        $text = '(' . implode(',', array_map('text_of', $row));
        foreach ($patterns as $pattern) if (preg_match($pattern, $text)) continue 2;
        $sum ^= md5($text, true);
        $count++;
    }
    if ($db->errno) throw new Refused("the database says: $db->error");
    return "$count " . bin2hex($sum);
}

// as_seen refuses to go on where what is to be replaced is not any more what it was when it was compared.
function as_seen($db, $asked, $table, $now) {
    if (isset($asked['sums'][$table]) && $asked['sums'][$table] !== (in_array($table, $now, true) ? sum_of($db, $table, still($asked, $table)) : ''))
        throw new Refused("the table $table was changed there since it was compared, while the push was on its way: push again");
}
function files_as_seen($asked) {
    global $here;
    if (!$asked['seen']) return;
    foreach (array_merge($asked['put'], $asked['gone']) as $i => $name) {
        $name = base64_decode($name);
        $info = @lstat("$here/$name");
        if ($asked['seen'][$i] !== ($info ? "$info[size] $info[mtime]" : ''))
            throw new Refused("$name was changed there since it was compared, while the push was on its way: push again");
    }
}

// is_table tells whether a table is one of the CMS's; those of a network's sub-sites have a number behind their prefix.
function is_table($asked, $bare, $table) {
    return (bool) preg_match('/^' . preg_quote($asked['prefix'], '/') . '(?:[0-9]+_)?' . preg_quote($bare, '/') . '$/', $table);
}

// dump_rows writes the rows of a table, and answers the row at which time was over, or -1.
function dump_rows($db, $table, $at, $masks) {
    $columns = $keys = $values = array();
    $some = false;
    foreach (rows($db, 'SHOW COLUMNS FROM ' . name_of($table)) as $row) {
        $some = $some || strpos($row[5], 'GENERATED') !== false || strpos($row[5], 'INVISIBLE') !== false;
        if (strpos($row[5], 'GENERATED') !== false) continue;
        $columns[] = name_of($row[0]);
        $bits = strncasecmp($row[1], 'bit', 3) === 0; // which PHP would make a number of
        $values[] = isset($masks[$row[0]]) ? $masks[$row[0]] : ($bits ? 'CAST(' . name_of($row[0]) . ' AS BINARY)' : name_of($row[0]));
        if ($row[3] === 'PRI') $keys[] = name_of($row[0]);
    }
    $list = implode(',', $columns);
    $from = implode(',', $values);
    $into = 'INSERT INTO ' . name_of($table) . ($some ? " ($list)" : '') . " VALUES\n";
    $answer = said($db, "SELECT $from FROM " . name_of($table) . ($keys ? ' ORDER BY ' . implode(',', $keys) : '') . " LIMIT $at,18446744073709551615",
        MYSQLI_USE_RESULT);
    $text = '';
    $count = 0;
    while ($row = $answer->fetch_row()) {
        $text .= ($text === '' ? $into : ",\n") . '(' . implode(',', array_map('text_of', $row)) . ')';
        $at++;
        if (++$count < 200 && strlen($text) < 1 << 20) continue;
        frame('D', $text . ";\n");
        $text = '';
        $count = 0;
        if (late()) { $answer->free(); return $at; }
    }
    if ($text !== '') frame('D', $text . ";\n");
    if ($db->errno) throw new Refused("the database says: $db->error");
    return -1;
}

// A stage is a folder beside the site's files in which lies what takes their place: new/ for what comes, old/ for what was there, database.sql,
// and what has been done so far, so that it can be gone on with and taken back whatever ends it.
function stage($asked) {
    global $here;
    if (!preg_match('/^\.move-[a-z2-7]{20}$/', $asked['stage'])) throw new Refused('that is no stage');
    return $here . '/' . $asked['stage'];
}
function kept($asked, $name) {
    $path = stage($asked) . "/$name.php";
    if (!is_file($path)) return null;
    $text = file_get_contents($path);
    return json_decode(substr($text, strpos($text, "\n") + 1), true);
}
function keep($asked, $name, $state) {
    $next = stage($asked) . "/$name.next.php";
    if (file_put_contents($next, "<?php exit; ?>\n" . json($state)) === false || !rename($next, stage($asked) . "/$name.php"))
        throw new Refused('what has been done cannot be written down: is the disk full?');
}
function lies($path) { return is_link($path) || file_exists($path); }
function without_empty($folder) { global $here; for (; $folder !== $here && @rmdir($folder); $folder = dirname($folder)); }
function folder_for($path) { if (!is_dir(dirname($path))) mkdir(dirname($path), 0755, true); }
function remove($path) {
    if (is_link($path) || !is_dir($path)) { if (lies($path)) unlink($path); return; }
    foreach (array_diff(scandir($path), array('.', '..')) as $name) remove("$path/$name");
    rmdir($path);
}

// beside is what a table is called that comes (n) or that was there (o).
function beside($asked, $kind, $table) {
    $name = $kind . substr($asked['stage'], 6, 8) . '_' . $table;
    return strlen($name) <= 64 ? $name : substr($name, 0, 52) . substr(md5($table), 0, 12);
}
function tables_now($db) {
    $all = array();
    foreach (rows($db, "SHOW FULL TABLES WHERE Table_type='BASE TABLE'") as $row) $all[] = $row[0];
    return $all;
}
function drop_beside($db, $asked, $kind) {
    said($db, 'SET FOREIGN_KEY_CHECKS=0');
    foreach (tables_now($db) as $table) if (strpos($table, $kind . substr($asked['stage'], 6, 8) . '_') === 0) said($db, 'DROP TABLE ' . name_of($table));
}

// bound refuses tables that others hang on: these would go on with what was there before.
function bound($db, $tables) {
    foreach (rows($db, 'SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA=DATABASE()') as $row)
        if (in_array($row[1], $tables, true)) throw new Refused("the table $row[1] has a trigger there, $row[0], which would be lost: keep the host's table");
    foreach (rows($db, 'SELECT TABLE_NAME, REFERENCED_TABLE_NAME FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA=DATABASE() AND
        REFERENCED_TABLE_NAME IS NOT NULL') as $row) if (in_array($row[1], $tables, true) && !in_array($row[0], $tables, true))
        throw new Refused("the table $row[0] there has a foreign key into $row[1]: push both, or keep the host's");
}

// load fills tables beside those of the site from the stage's dump. A slice that did not end has it begin again.
function load($asked) {
    $db = db($asked);
    $file = stage($asked) . '/database.sql';
    $state = kept($asked, 'load');
    if (!$state) bound($db, $asked['tables']);
    if (!$state || $state['open']) {
        drop_beside($db, $asked, 'n');
        $state = array('at' => 0);
    }
    keep($asked, 'load', array('open' => true));
    foreach (array("SET SQL_MODE='NO_AUTO_VALUE_ON_ZERO'", 'SET FOREIGN_KEY_CHECKS=0', 'SET UNIQUE_CHECKS=0') as $statement) said($db, $statement);
    $from = fopen($file, 'rb');
    fseek($from, $state['at']);
    while (!late() && ($statement = statement($from)) !== '') {
        if (!preg_match('/^(CREATE TABLE|INSERT INTO) `((?:[^`]|``)+)`/', substr($statement, 0, 300), $found)) continue;
        $table = str_replace('``', '`', $found[2]);
        if (!in_array($table, $asked['tables'], true)) continue;
        $statement = $found[1] . ' ' . name_of(beside($asked, 'n', $table)) . substr($statement, strlen($found[0]));
        if ($found[1] === 'CREATE TABLE') {
            $statement = preg_replace('/CONSTRAINT `(?:[^`]|``)+` (?=FOREIGN KEY)/', '', $statement);
            foreach ($asked['tables'] as $other) $statement = str_replace('REFERENCES ' . name_of($other) . ' ', 'REFERENCES ' . name_of(beside($asked, 'n',
                $other)) . ' ', $statement);
        }
        for ($again = 0; $db->query($statement) === false; $again++) {
            if ($again > 5 || !preg_match("/Unknown collation: '(\w+)'/", $db->error, $found)) throw new Refused("the database says: $db->error");
            $statement = str_replace($found[1], 'utf8mb4_unicode_ci', $statement); // of a newer server
        }
        $state['at'] = ftell($from);
    }
    $done = $statement === '';
    keep($asked, 'load', array('at' => $state['at'], 'open' => false));
    return array('done' => $done, 'at' => $state['at']);
}

function statement($from) { // the next one of a dump as Vessik writes them: its end is the end of a line
    for ($text = ''; ($line = fgets($from)) !== false;) {
        $text .= $line;
        if (substr(rtrim($line, "\r\n"), -1) === ';') return rtrim($text);
    }
    return '';
}

function maintained($asked, $on) { // visitors see a page for a moment
    global $here;
    if ($asked['maintenance'] === '') return;
    $file = $here . '/' . $asked['maintenance'];
    if ($on) file_put_contents($file, str_replace('TIME', (string) time(), $asked['notice']));
    elseif (is_file($file)) unlink($file);
}

// turn puts what lies in the stage in the place of what was there.
function turn($asked) {
    global $here;
    $stage = stage($asked);
    $state = kept($asked, 'turn');
    $db = $asked['tables'] ? db($asked) : null;
    if (!$state) {
        files_as_seen($asked);
        $state = array('put' => $asked['put'], 'gone' => $asked['gone'], 'tables' => $asked['tables'],
            'had' => $db ? array_values(array_intersect($asked['tables'], tables_now($db))) : array());
        keep($asked, 'turn', $state);
    }
    $state += array('seen' => array()); // tables that were looked at behind the page
    maintained($asked, true);
    foreach (array_map('base64_decode', $state['put']) as $name) {
        if (!lies("$stage/new/$name")) continue; // it stands already
        if (lies("$here/$name") && !lies("$stage/old/$name")) {
            folder_for("$stage/old/$name");
            rename("$here/$name", "$stage/old/$name");
        }
        folder_for("$here/$name");
        rename("$stage/new/$name", "$here/$name");
        if (late()) return array('done' => false);
    }
    foreach (array_map('base64_decode', $state['gone']) as $name) if (lies("$here/$name") && !lies("$stage/old/$name")) {
        folder_for("$stage/old/$name");
        rename("$here/$name", "$stage/old/$name");
        without_empty(dirname("$here/$name"));
    }
    if ($db) {
        $now = tables_now($db);
        $moves = array();
        foreach ($state['tables'] as $table) if (in_array(beside($asked, 'n', $table), $now, true)) {
            if (!in_array($table, $state['seen'], true)) { // visitors wrote until they saw the page
                as_seen($db, $asked, $table, $now);
                $state['seen'][] = $table;
                keep($asked, 'turn', $state);
                if (late()) return array('done' => false);
            }
            foreach ($asked['keep'] as $statement) if ($statement['table'] === $table && in_array($table, $now, true)) // what is the live site's own stays so
                said($db, strtr($statement['sql'], array('{next}' => name_of(beside($asked, 'n', $table)), '{now}' => name_of($table))));
            if (in_array($table, $now, true)) $moves[] = name_of($table) . ' TO ' . name_of(beside($asked, 'o', $table));
            $moves[] = name_of(beside($asked, 'n', $table)) . ' TO ' . name_of($table);
        }
        if ($moves) said($db, 'RENAME TABLE ' . implode(', ', $moves)); // all of them at once, or none
    }
    maintained($asked, false);
    if (function_exists('opcache_reset')) @opcache_reset();
    return array('done' => true);
}

// back has everything be what it was, from wherever it had got to, and removes the stage.
function back($asked) {
    global $here;
    $stage = stage($asked);
    $state = kept($asked, 'turn');
    if ($state) {
        maintained($asked, true);
        foreach (array_map('base64_decode', $state['put']) as $name) {
            if (!lies("$stage/new/$name") && lies("$here/$name")) {
                folder_for("$stage/new/$name");
                rename("$here/$name", "$stage/new/$name");
                without_empty(dirname("$here/$name"));
            }
            if (lies("$stage/old/$name") && !lies("$here/$name")) { folder_for("$here/$name"); rename("$stage/old/$name", "$here/$name"); }
            if (late()) return array('done' => false);
        }
        foreach (array_map('base64_decode', $state['gone']) as $name) if (lies("$stage/old/$name") && !lies("$here/$name")) {
            folder_for("$here/$name");
            rename("$stage/old/$name", "$here/$name");
        }
        if ($state['tables']) {
            $db = db($asked);
            $now = tables_now($db);
            $moves = array();
            foreach ($state['tables'] as $table) {
                $turned = in_array($table, $state['had'], true) ? in_array(beside($asked, 'o', $table), $now, true) :
                    in_array($table, $now, true) && !in_array(beside($asked, 'n', $table), $now, true);
                if (!$turned) continue;
                $moves[] = name_of($table) . ' TO ' . name_of(beside($asked, 'n', $table));
                if (in_array($table, $state['had'], true)) $moves[] = name_of(beside($asked, 'o', $table)) . ' TO ' . name_of($table);
            }
            if ($moves) said($db, 'RENAME TABLE ' . implode(', ', $moves));
        }
        maintained($asked, false);
        if (function_exists('opcache_reset')) @opcache_reset();
    }
    return clear($asked);
}

// clear removes a stage, and with it what was there before.
function clear($asked) {
    if (!empty($asked['file'])) {
        $db = db($asked);
        foreach (array('n', 'o') as $kind) drop_beside($db, $asked, $kind);
    }
    remove(stage($asked));
    return array('done' => true);
}

function remove_self() { gone(); return array('gone' => !is_file(__FILE__)); }

// answer judges who asks: no request is answered twice.
function answer($body) {
    $asked = json_decode($body, true);
    if (!is_array($asked) || !isset($asked['n'], $asked['at'], $asked['do'])) throw new Refused('that is no request');
    if (abs(time() - $asked['at']) > WINDOW) throw new Refused('the request is too old');
    $state = fopen(statefile(), 'c+');
    if (!$state || !flock($state, LOCK_EX)) throw new Refused('what was asked cannot be written down: is the disk full?');
    fgets($state);
    $last = (int) fgets($state);
    if ($asked['n'] <= $last) throw new Refused('the request was answered already');
    ftruncate($state, 0);
    rewind($state);
    if (!fwrite($state, "<?php exit; ?>\n$asked[n]\n")) throw new Refused('what was asked cannot be written down: is the disk full?');
    fclose($state);
    $known = array('look', 'files', 'hashes', 'query', 'sums', 'dump', 'load', 'turn', 'back', 'clear', 'remove_self');
    if (!in_array($asked['do'], $known, true)) throw new Refused('nothing is called so');
    return call_user_func($asked['do'], $asked);
}

header('Cache-Control: no-store');
header('X-Robots-Tag: noindex');
header('Content-Type: application/octet-stream');
clearstatcache();
if (time() - asked_at() > LASTS) { gone(); http_response_code(410); exit; }
if ($_SERVER['REQUEST_METHOD'] !== 'POST') { echo time(); exit; }
$body = file_get_contents('php://input');
$given = isset($_SERVER['HTTP_VESSIK_SIGNATURE']) ? $_SERVER['HTTP_VESSIK_SIGNATURE'] : '';
if (!hash_equals(hash_hmac('sha256', $body, KEY), $given)) { http_response_code(403); exit; }
$budget = budget();
$signature = hash_init('sha256', HASH_HMAC, KEY);
hash_update($signature, $body); // an answer belongs to its request
while (ob_get_level()) ob_end_clean();
try {
    frame('E', json(answer($body)));
} catch (Refused $e) {
    frame('R', $e->getMessage());
} catch (Exception $e) {
    frame('R', 'PHP says: ' . $e->getMessage() . ' (line ' . $e->getLine() . ')');
} catch (Throwable $e) { // of PHP 7 and newer
    frame('R', 'PHP says: ' . $e->getMessage() . ' (line ' . $e->getLine() . ')');
}
echo hash_final($signature);
