#!/bin/sh
# The last step of Orache's build: puts it below the folder that is named.
read -r prefix <prefix.txt
mkdir -p "$1$prefix/bin"
cp orache.sh "$1$prefix/bin/orache"
cp reed.sh "$1$prefix/bin/reed"
chmod +x "$1$prefix/bin/orache" "$1$prefix/bin/reed"
