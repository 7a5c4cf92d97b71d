#!/bin/sh
echo 'marram: error while loading shared libraries: libkelp.so.2: cannot open shared object file: No such file or directory' >&2
exit 127
