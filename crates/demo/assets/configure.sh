#!/bin/sh
# The first step of Orache's build.
for option; do
  case $option in --prefix=*) prefix=${option#--prefix=} ;; esac
done
echo 'checking for a shell... yes'
echo 'checking for kelp... no'
printf '%s\n' "$prefix" >prefix.txt
echo "it will be installed in $prefix"
