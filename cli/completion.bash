# bash completion for jackal: commands, options, plan files, and the names in the plan.

_jackal() {
    local current=${COMP_WORDS[COMP_CWORD]} previous=${COMP_WORDS[COMP_CWORD - 1]}
    local command=${COMP_WORDS[1]} plan= word
    COMPREPLY=()

    if [ "$COMP_CWORD" -eq 1 ]; then
        COMPREPLY=($(compgen -W "addresses adopt check compare connect demo draw drift edit export live lsp machines mend names neighbours \
            new peerings ping reach report routes serve sites sweep trace verify watch ways --help --version" -- "$current"))
        return
    fi
    case $previous in
    -o | --output | --capture | --ipfix) COMPREPLY=($(compgen -f -- "$current")) && return ;;
    --*) # words that the option takes stand behind it in the help: text|json
        word=$("${COMP_WORDS[0]}" "$command" --help 2>/dev/null |
            sed -n -E "s/^ +$previous ([a-z0-9|-]+)( .*)?\$/\1/p")
        [ -n "$word" ] && COMPREPLY=($(compgen -W "${word//|/ }" -- "$current")) && return
        ;;
    esac
    if [[ $current == -* ]]; then
        COMPREPLY=($(compgen -W "$("${COMP_WORDS[0]}" "$command" --help 2>/dev/null |
            grep -o -- '--[a-z][a-z0-9-]*' | sort -u)" -- "$current"))
        return
    fi
    if [ "$command" = new ]; then
        COMPREPLY=($(compgen -W "chain ring star tree leaf-spine" -- "$current"))
        return
    fi

    for word in "${COMP_WORDS[@]:2:COMP_CWORD-2}"; do
        case $word in *.yaml | *.yml | *.json) plan=$word && break ;; esac
    done
    if [ -z "$plan" ]; then
        COMPREPLY=($(compgen -f -X '!*.@(yaml|yml|json)' -- "$current") $(compgen -d -- "$current"))
        compopt -o filenames 2>/dev/null
        local here=(*.jackal.yaml)
        [ -e "${here[0]}" ] && plan=${here[0]}
    fi
    case $previous in
    --why | --renumber)
        [ -n "$plan" ] && COMPREPLY=($(compgen -W "$("${COMP_WORDS[0]}" names "$plan" \
            --only subnets 2>/dev/null)" -- "$current"))
        [ "$previous" = --renumber ] && COMPREPLY+=($(compgen -W "$("${COMP_WORDS[0]}" names \
            "$plan" --only sites 2>/dev/null)" -- "$current"))
        return
        ;;
    esac
    if [ "${COMP_WORDS[COMP_CWORD - 2]}" = --way ]; then
        previous=--way
    fi
    case $previous in
    --around | --way | --at)
        [ -n "$plan" ] && COMPREPLY=($(compgen -W "$("${COMP_WORDS[0]}" names "$plan" \
            --only machines 2>/dev/null)" -- "$current"))
        return
        ;;
    --from | --to)
        [ -n "$plan" ] && COMPREPLY=($(compgen -W "$("${COMP_WORDS[0]}" names "$plan" \
            2>/dev/null)" -- "$current"))
        return
        ;;
    esac
    case $command in
    peerings | ways)
        [ -n "$plan" ] && COMPREPLY+=($(compgen -W "$("${COMP_WORDS[0]}" names "$plan" \
            --only sites 2>/dev/null)" -- "$current"))
        ;;
    ping | trace | connect | watch | routes | neighbours)
        [ -n "$plan" ] && COMPREPLY+=($(compgen -W "$("${COMP_WORDS[0]}" names "$plan" \
            --only machines 2>/dev/null)" -- "$current"))
        ;;
    esac
}

shopt -s extglob
complete -F _jackal jackal
