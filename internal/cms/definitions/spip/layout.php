<?php // Has SPIP find the libraries of Debian's packages in its own tree; written by Vessik. Argument: the tree.
[, $tree] = $argv;
foreach (new RecursiveIteratorIterator(new RecursiveDirectoryIterator("$tree/vendor", FilesystemIterator::SKIP_DOTS)) as $path => $file) {
    if (!str_ends_with($path, '.php')) {
        continue;
    }
    $up = str_repeat('../', substr_count(substr(dirname($path), strlen("$tree/vendor")), '/'));
    $text = file_get_contents($path);
    $own = str_replace(["'/usr/share/php/", "'/usr/share/spip/'"], ["__DIR__ . '/{$up}php/", "__DIR__ . '/../$up'"], $text);
    if ($own !== $text) {
        file_put_contents($path, $own);
    }
}
