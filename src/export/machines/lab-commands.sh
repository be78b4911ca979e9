# Commands come by a port of the machine, one a line: a word of the asker's, and the command in
# base64. The answer is that word, the command's status, and in base64 what it printed.
exec 3<>/dev/virtio-ports/lab.commands
while read -r token command <&3; do
    sh -c "$(printf '%s' "$command" | base64 -d)" </dev/null >/run/lab-commands 2>&1 3<&-
    printf '%s %s %s\n' "$token" $? "$(base64 -w 0 /run/lab-commands)" >&3
done
