# bash completion of wyntaxis; made by wyntaxis completion bash
_wyntaxis() {
    local cur="${COMP_WORDS[COMP_CWORD]}" prev="" options=""
    [ "$COMP_CWORD" -gt 0 ] && prev="${COMP_WORDS[COMP_CWORD-1]}"
    if [ "$COMP_CWORD" -eq 1 ]; then
        COMPREPLY=($(compgen -W "check choose completion cooling differ direction dossier draft field filters focus footprint guide headers history incidents manual map night numbers paths ports proofs reach ready records rehearse scale schema sensor setup spacers stars tonight typing unpack watch --help --demo --screenshot --view --debug --version" -- "$cur") $(compgen -f -- "$cur"))
        return
    fi
    case "${COMP_WORDS[1]} $prev" in
        "dossier --lamp") COMPREPLY=($(compgen -W "day red" -- "$cur")); return ;;
        "dossier --paper") COMPREPLY=($(compgen -W "A4 Letter A5 A6" -- "$cur")); return ;;
        "field --relation") COMPREPLY=($(compgen -W "turned altitude flip day spacing repeat" -- "$cur")); return ;;
        "map --form") COMPREPLY=($(compgen -W "json toml yaml ini xml csv fits" -- "$cur")); return ;;
    esac
    case "${COMP_WORDS[1]}" in
        check) options="--help --json --variant --shelf --sysfs --ports --frames --debug" ;;
        choose) options="--help --shelf --with --object --sort --json --debug" ;;
        completion) options="--help --debug" ;;
        cooling) options="--help --json --variant --shelf --map --target --keep --debug" ;;
        differ) options="--help --json --variant --shelf --since --against --swap --set --debug" ;;
        direction) options="--help --json --variant --shelf --angle --debug" ;;
        dossier) options="--help --json --variant --shelf --out --card --lamp --private --paper --chapters --focus --bench --name-photographs --debug" ;;
        draft) options="--help --out --ports --sysfs --json --debug" ;;
        field) options="--help --json --variant --shelf --at --relation --keep --debug" ;;
        filters) options="--help --json --variant --shelf --one-way --keep --debug" ;;
        focus) options="--help --json --variant --shelf --map --keep --debug" ;;
        footprint) options="--help --json --variant --shelf --at --angle --object --overlap --csv --debug" ;;
        guide) options="--help --json --variant --shelf --map --without-gusts --keep --debug" ;;
        headers) options="--help --json --variant --shelf --csv --keep --debug" ;;
        history) options="--help --json --variant --shelf --at --out --compact --join --debug" ;;
        incidents) options="--help --json --variant --shelf --debug" ;;
        manual) options="--help --debug" ;;
        map) options="--help --form --add --rig --json --debug" ;;
        night) options="--help --json --variant --shelf --at --date --csv --debug" ;;
        numbers) options="--help --json --variant --shelf --sysfs --ports --frames --debug" ;;
        paths) options="--help --rig --json --debug" ;;
        ports) options="--help --json --variant --shelf --sysfs --debug" ;;
        proofs) options="--help --json --variant --shelf --confirm --reason --debug" ;;
        reach) options="--help --json --variant --shelf --seconds --debug" ;;
        ready) options="--help --json --variant --shelf --sysfs --ports --frames --debug" ;;
        records) options="--help --json --variant --shelf --with --map --debug" ;;
        rehearse) options="--help --json --variant --shelf --fault --every-fault --nights --seed --date --debug" ;;
        scale) options="--help --json --variant --shelf --stars --typed --u --binning --keep --debug" ;;
        schema) options="--help --debug" ;;
        sensor) options="--help --json --variant --shelf --keep --debug" ;;
        setup) options="--help --json --variant --shelf --start --done --debug" ;;
        spacers) options="--help --json --variant --shelf --after --debug" ;;
        stars) options="--help --variant --each --every --limit --keep --json --debug" ;;
        tonight) options="--help --json --variant --shelf --done --not-now --failed --confirm --debug" ;;
        typing) options="--help --json --variant --shelf --program --from --debug" ;;
        unpack) options="--help --out --take --json --debug" ;;
        watch) options="--help --json --variant --shelf --count --seconds --only-new --debug" ;;
    esac
    if [[ "$cur" == -* ]]; then
        COMPREPLY=($(compgen -W "$options" -- "$cur"))
    else
        COMPREPLY=($(compgen -f -- "$cur"))
    fi
}
complete -o filenames -F _wyntaxis wyntaxis
