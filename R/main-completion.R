# What shells complete from, and the manual page: both from the steps and their options.

words_of_step <- function(step) {
  found <- vapply(step$options, function(o) o@long_flag, "")
  c(found, "--help")
}

completion_for <- function(shell, steps) {
  if (!identical(length(shell), 1L)) wrong_usage("--completion needs bash, zsh or fish.")
  switch(
    shell,
    bash = bash_completion(steps),
    zsh = c("autoload -U +X bashcompinit && bashcompinit", bash_completion(steps)),
    fish = fish_completion(steps),
    wrong_usage("--completion knows bash, zsh and fish, not \"", shell, "\".")
  )
}

bash_completion <- function(steps) {
  cases <- vapply(
    names(steps),
    function(s) {
      paste0(
        "    ", s, ") words=\"", paste(words_of_step(steps[[s]]), collapse = " "), "\" ;;"
      )
    },
    ""
  )
  c(
    "_dreher() {", "  local words", "  if [ \"$COMP_CWORD\" -eq 1 ]; then",
    paste0(
      "    words=\"", paste(c(names(steps), "--help", "--version"), collapse = " "), "\""
    ),
    "  else case \"${COMP_WORDS[1]}\" in", cases, "  esac fi",
    "  case \"${COMP_WORDS[COMP_CWORD]}\" in",
    "    -*) COMPREPLY=($(compgen -W \"$words\" -- \"${COMP_WORDS[COMP_CWORD]}\")) ;;",
    paste0(
      "    *) if [ \"$COMP_CWORD\" -eq 1 ]; then COMPREPLY=($(compgen -W \"$words\" ",
      "-- \"${COMP_WORDS[1]}\"))"
    ),
    "       else COMPREPLY=($(compgen -f -- \"${COMP_WORDS[COMP_CWORD]}\")); fi ;;",
    "  esac", "}", "complete -F _dreher dreher"
  )
}

fish_completion <- function(steps) {
  quoted <- function(x) paste0("'", gsub("'", "\\\\'", x), "'")
  c(
    vapply(names(steps), function(s) {
      paste0(
        "complete -c dreher -n __fish_use_subcommand -a ", s, " -d ",
        quoted(sub("[.] .*$", ".", steps[[s]]$says))
      )
    }, ""),
    unlist(lapply(names(steps), function(s) {
      vapply(steps[[s]]$options, function(o) {
        paste0(
          "complete -c dreher -n '__fish_seen_subcommand_from ", s, "' -l ",
          sub("^--", "", o@long_flag), if (o@action == "store") " -r", " -d ",
          quoted(gsub(" *\\[default[^]]*\\]", "", o@help))
        )
      }, "")
    }))
  )
}

manual_page <- function(help, steps) {
  plain <- function(x) {
    gsub(
      "^([.'])",
      "\\\\&\\1",
      gsub("-", "\\-", gsub("\\", "\\\\", x, fixed = TRUE), fixed = TRUE)
    )
  }
  c(
    paste0(".TH DREHER 1 \"\" \"dreher ", utils::packageVersion("dreher"), "\""),
    ".SH NAME", "dreher \\- rank and reduce the predictors of a trained model",
    ".SH SYNOPSIS", ".B dreher", "STEP [options]", ".SH DESCRIPTION", ".nf",
    plain(strsplit(help, "\n")[[1]]), ".fi", ".SH STEPS",
    unlist(lapply(names(steps), function(s) {
      c(
        paste0(".SS ", s), plain(steps[[s]]$says),
        unlist(lapply(steps[[s]]$options, function(o) {
          usual <- if (length(o@default)) as.character(o@default) else ""
          c(
            ".TP", paste0(".B ", plain(o@long_flag)),
            plain(gsub("%default", usual, o@help, fixed = TRUE))
          )
        }))
      )
    }))
  )
}
