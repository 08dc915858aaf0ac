package cli

import (
	"io"

	"github.com/spf13/cobra"
)

// bashAlone does what the completion needs of the package bash-completion, where that is not loaded: it puts the words
// together that bash splits at = and :, and cuts off what bash has of them already.
const bashAlone = `# Where the package bash-completion is not loaded, these do what its functions of the same names do.
if ! declare -F _get_comp_words_by_ref >/dev/null 2>&1; then
_get_comp_words_by_ref() {
    local line=${COMP_LINE:0:COMP_POINT} word k n=-1 begun
    words=() cword=0
    for ((k = 0; k <= COMP_CWORD; k++)); do
        word=${COMP_WORDS[k]}
        begun=${line%%[![:space:]]*}
        line=${line#"$begun"}
        ((k == COMP_CWORD)) && word=$line
        if ((n >= 0)) && [[ -z $begun ]]; then
            words[n]+=$word
        else
            words[++n]=$word
        fi
        line=${line#"$word"}
    done
    cword=$n
    cur=${words[n]} prev=
    ((n > 0)) && prev=${words[n - 1]}
}
__ltrim_colon_completions() {
    [[ $1 == *:* && $COMP_WORDBREAKS == *:* ]] || return 0
    local before=${1%"${1##*:}"} k
    for k in "${!COMPREPLY[@]}"; do
        COMPREPLY[k]=${COMPREPLY[k]#"$before"}
    done
}
_filedir() {
    local IFS=$'\n'
    if [[ $1 == -d ]]; then
        COMPREPLY=($(compgen -d -- "$cur"))
    else
        COMPREPLY=($(compgen -f -- "$cur"))
    fi
    compopt -o filenames 2>/dev/null
}
fi

`

// completeInBashAlone puts that before the script for bash.
func completeInBashAlone(root *cobra.Command) {
	for _, c := range root.Commands() {
		if c.Name() != "completion" {
			continue
		}
		for _, shell := range c.Commands() {
			if run := shell.RunE; shell.Name() == "bash" && run != nil {
				shell.RunE = func(c *cobra.Command, args []string) error {
					if _, err := io.WriteString(c.OutOrStdout(), bashAlone); err != nil {
						return err
					}
					return run(c, args)
				}
			}
		}
	}
}
