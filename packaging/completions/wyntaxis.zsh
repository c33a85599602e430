#compdef wyntaxis
# zsh completion of wyntaxis; made by wyntaxis completion zsh

_wyntaxis() {
    local -a commands
    commands=(
        'check:print every finding; exit 1 if some fail'
        'completion:print the completion script of a shell'
        'cooling:measure the cooler from logs of cooling runs'
        'differ:print changes between rigs or dates, and what they invalidate'
        'dossier:write the rig on paper, dossier, field card, or everything in one file'
        'draft:draft a rig from frames, ports and programs’ files'
        'field:measure tilt and curvature from sweeps of the focuser'
        'filters:measure flats, wheel, dust, illumination, old flats'
        'focus:measure focuser, tube and filters from focus runs'
        'footprint:print which part of the sky the sensor covers'
        'guide:measure guiding and calibration from guide logs'
        'headers:check the headers of a folder of FITS frames'
        'history:print what was saved when and why; the rig at any date'
        'manual:print the man page'
        'map:make a key map, which path of a program’s files holds what'
        'night:print the dark hours, and the altitude of each object on a date'
        'numbers:print every number, stated, computed and measured'
        'paths:print what a program’s file holds, path by path'
        'ports:print the USB tree, and what it means for the rig'
        'proofs:rank the next measurements by what they would settle'
        'reach:try each program’s host and port, over the network; exit 1 if some fail'
        'ready:print the conditions of the night, each with its verdict'
        'records:compare the settings of programs with the rig'
        'rehearse:simulate the night, and every fault that can happen in it'
        'scale:measure the image scale from a solved frame, two stars, or as typed'
        'schema:print the JSON Schema of the rig file'
        'sensor:measure the camera from a folder of bench frames'
        'spacers:search the shelf for spacers that bring the sensor to its distance; exit 1 if none fit'
        'stars:measure the stars of frames, HFD, FWHM, elongation'
        'typing:print what to type into each program; exit 1 if some differ'
        'unpack:open a file that holds everything into a folder'
    )
    if (( CURRENT == 2 )); then
        _describe command commands
        _files
        _arguments '--help[show this help message and exit]' '--demo[open a copy of the demo rigs]' '--screenshot[write a PNG of each view into DIR, without a screen, and end]:value:_files' '--view[with --screenshot, only the view of that name]:value:_files' '--debug[print the traceback of an unexpected error]' '--version[show program’s version number and exit]'
        return
    fi
    case "$words[2]" in
        check) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--sysfs[read this tree instead of /sys]:value:_files' '--ports[look at this computer’s ports too]' '--frames[look at the headers of a folder’s frames too]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        completion) _arguments '--help[show this help message and exit]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        cooling) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--map[a saved key map for columns with unknown headings]:value:_files' '--target[the set temperature in °C; the rig’s if left out]:value:_files' '--keep[write what was measured into the rig file]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        differ) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--since[against the rig as it was on a date, by its history]:value:_files' '--against[against a variant of the rig]:value:_files' '--swap[what putting a shelf’s piece in a part’s place would cost]:value:_files' '--set[what an edit would cost]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        dossier) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--out[a name with .html, .pdf, .csv or .zip]:value:_files' '--card[one page for the field]' '--lamp[the card for daylight, or for a red lamp]:value:(day red)' '--private[without site, serial numbers and hosts]' '--paper[the paper that it is printed on]:value:(A4 Letter)' '--chapters[only these chapters, by key, in commas]:value:_files' '--focus[focus runs to draw the curves of]:value:_files' '--bench[bench frames to draw the transfer curve of]:value:_files' '--name-photographs[name the photographs, embed none]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        draft) _arguments '--help[show this help message and exit]' '--out[the rig file to write; never one there]:value:_files' '--ports[take the devices on this computer’s ports too]' '--sysfs[read this tree instead of /sys]:value:_files' '--json[print JSON instead of a table]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        field) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--at[a sweep taken with the sensor so many mm behind the corrector; otherwise from the folder’s name (61.5 mm)]:value:_files' '--relation[how the last two sweeps differ, where their headers do not say]:value:(turned altitude flip day spacing repeat)' '--keep[write what was measured into the rig file]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        filters) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--one-way[the name of a folder taken with the wheel turning one way only; the others were then taken without]:value:_files' '--keep[write what was measured into the rig file]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        focus) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--map[a saved key map for columns with unknown headings]:value:_files' '--keep[write what was measured into the rig file]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        footprint) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--at[centre, J2000, or a catalogued object; the rig’s framing if left out]:value:_files' '--angle[position angle of the frame’s top in degrees]:value:_files' '--object[print how many panels cover this object]:value:_files' '--overlap[overlap of panels as a share of a side]:value:_files' '--csv[print centre and corners as CSV]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        guide) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--map[a saved key map for columns with unknown headings]:value:_files' '--keep[write what was measured into the rig file]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        headers) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--csv[print a line for every frame as CSV]' '--keep[keep what the night’s work takes, in the plan]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        history) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--at[the rig as it was at the end of a day (UTC), or at a moment]:value:_files' '--out[write it to a new file]:value:_files' '--compact[keep one save a day of what is older]:value:_files' '--join[take in another computer’s history of the rig]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        manual) _arguments '--help[show this help message and exit]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        map) _arguments '--help[show this help message and exit]' '--form[the form of the files; any if left out]:value:(json toml yaml ini xml csv fits)' '--add[add to the map of that name instead of replacing it]' '--rig[take only quantities that this rig knows]:value:_files' '--json[print JSON instead of a table]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        night) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--at[an object, J2000 or by name; may be given several times]:value:_files' '--date[the evening’s date, as 2026-11-26; today if left out]:value:_files' '--csv[print a line for each object as CSV]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        numbers) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--sysfs[read this tree instead of /sys]:value:_files' '--ports[look at this computer’s ports too]' '--frames[look at the headers of a folder’s frames too]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        paths) _arguments '--help[show this help message and exit]' '--rig[suggest quantities of this rig for the paths]:value:_files' '--json[print JSON instead of a table]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        ports) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--sysfs[read this tree instead of /sys]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        proofs) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--confirm[confirm that an out-of-date measurement is still valid; needs --reason]:value:_files' '--reason[why it is still valid]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        reach) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--seconds[wait so long for each (3)]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        ready) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--sysfs[read this tree instead of /sys]:value:_files' '--ports[look at this computer’s ports too]' '--frames[look at the headers of a folder’s frames too]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        records) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--with[compare this program’s file too, by a saved key map]:value:_files' '--map[the key map for it; found by its paths if left out]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        rehearse) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--fault[let a fault strike, at a time in s or H,MM]:value:_files' '--every-fault[simulate each fault by itself]' '--nights[simulate N nights with faults drawn by their rates]:value:_files' '--seed[what they are drawn from]:value:_files' '--date[the night that begins on this date; today by default]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        scale) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--stars[two stars, pixels from the frame’s first, and J2000 position]:value:_files' '--typed[the scale that another program reported]:value:_files' '--u[standard uncertainty of a typed scale]:value:_files' '--binning[binning that --stars or --typed speak of]:value:_files' '--keep[write it into the rig as a measured value]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        schema) _arguments '--help[show this help message and exit]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        sensor) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--keep[write what was measured into the rig file]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        spacers) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--after[only behind this part may spacers stand; may be given several times]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        stars) _arguments '--help[show this help message and exit]' '--variant[look at this variant of the rig]:value:_files' '--each[write every star into this file]:value:_files' '--every[take every N-th frame only]:value:_files' '--limit[the largest HFD of an accepted frame, in px]:value:_files' '--keep[write what was measured into the rig file]' '--json[print JSON instead of a table]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        typing) _arguments '--help[show this help message and exit]' '--json[print JSON instead of a table]' '--variant[the rig’s variant of that name]:value:_files' '--shelf[a shelf file, JSON or CSV]:value:_files' '--program[this program’s page alone]:value:_files' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
        unpack) _arguments '--help[show this help message and exit]' '--out[the folder that it is unpacked into]:value:_files' '--take[add its shelf and key maps to yours]' '--json[print JSON instead of lines]' '--debug[print the traceback of an unexpected error]' '*:file:_files' ;;
    esac
}

_wyntaxis "$@"
