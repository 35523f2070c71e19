# Twins in words.

#' @export
print.dreher_twins <- function(x, ..., width = NULL) write_lines(x, format_twins(x), width)

format_twins <- function(x, most = 6, room = 19) {
  d <- x$table
  name <- function(p) unname(x$labels[p])
  body <- unlist(lapply(utils::head(x$clusters$cluster, most), function(g) {
    of <- d[which(d$cluster == g), ]
    stays <- of$predictor[of$representative]
    gone <- of$predictor[!of$representative]
    c(
      some_lines(
        paste0(
          few_words(name(of$predictor), 8), " (association ",
          format_value(x$clusters$lowest[g], 0.01), if (nrow(of) > 2) " at least", ")"
        ),
        2
      ),
      paste0("  ", some_lines(say_cluster(x, of, stays, gone), 3)),
      if (any(!is.na(of$replaceable))) {
        paste0(
          "   replaceable by all others: ",
          paste0(
            shorten(name(of$predictor), 22), " ", format_percent(of$replaceable),
            collapse = ", "
          )
        ) |> shorten(screen_width())
      }
    )
  }))
  if (length(body) > room) {
    body <- c(utils::head(body, room), " \u2026: as.data.frame() shows all")
  }
  if (is.null(body)) {
    body <- wrap_lines(
      if (nrow(d) < 2) {
        "One predictor has no twins."
      } else {
        paste0(
          "No two predictors go together that closely; the closest are at ",
          format_value(max(d$association, 0, na.rm = TRUE), 0.01), "."
        )
      },
      indent = 1
    )
  }
  c(
    heading(paste0(
      "Twins among ", count_of(nrow(d), "predictor"), ": mean association of ", x$threshold,
      " or more"
    )),
    body,
    if (nrow(x$clusters) > most) {
      paste0(" and ", count_of(nrow(x$clusters) - most, "more cluster"))
    },
    if (nrow(x$clusters)) {
      c("", wrap_lines(say_thinned(d, name)))
    }
  )
}

# Who stays and who goes, and whether that could be the other way round.
say_cluster <- function(x, of, stays, gone) {
  name <- function(p) unname(x$labels[p])
  told <- function(from, to) {
    x$tells$tells[match(paste(from, to), paste(x$tells$predictor, x$tells$other))]
  }
  if (!length(gone)) {
    return(if (all(of$why == "kept")) {
      paste0(list_words(name(stays)), " are kept, as the dictionary asks.")
    } else {
      paste0(
        list_words(name(stays)),
        " are kept: they are associated, but ",
        if (length(stays) == 2) "neither predicts the other" else "none predicts the others",
        " well enough (", say_told(told_of(x, stays)), ")."
      )
    })
  }
  # Whoever stands for the cluster, not who stays because nobody tells it.
  lead <- of$predictor[of$representative & of$why != "not told by the other"]
  beside <- setdiff(stays, lead)
  first <- lead[1]
  back <- told(gone, first)
  back[is.na(back)] <- 0
  does <- back >= x$threshold
  paste0(
    list_words(name(lead)), if (length(lead) > 1) " are kept" else " is kept",
    if (nzchar(of$why[of$predictor == first])) {
      paste0(" (", of$why[of$predictor == first], ")")
    },
    "; ",
    paste(
      c(
        if (any(does)) {
          paste0(
            few_words(name(gone[does])), " could replace it (",
            if (sum(does) == 1) "predicts " else "predict ", say_shares(back[does]),
            " of it)"
          )
        },
        if (any(!does)) {
          paste0(
            few_words(name(gone[!does])), " can be left out, but could not replace it (",
            if (sum(!does) == 1) "predicts " else "predict ", say_shares(back[!does]),
            " of it)"
          )
        },
        if (length(beside)) {
          paste0(
            few_words(name(beside)),
            if (length(beside) > 1) " are kept too: they are" else " is kept too: it is",
            " not predicted well enough"
          )
        }
      ),
      collapse = "; "
    ),
    "."
  )
}

# a, b, c and 93 more
few_words <- function(x, most = 5) {
  if (length(x) <= most + 1) {
    list_words(x)
  } else {
    paste0(paste(x[seq_len(most)], collapse = ", "), " and ", length(x) - most, " more")
  }
}

# Each of a few shares, or the range of many.
say_shares <- function(x) {
  if (length(x) <= 3) {
    list_words(format_percent(x))
  } else {
    paste0(round(100 * min(x)), " to ", format_percent(max(x)))
  }
}

# What is not enough is not rounded up to it.
say_told <- function(shares) {
  paste0(format_percent(unique(floor(100 * range(shares) + 1e-9) / 100)), collapse = " to ")
}

told_of <- function(x, members) {
  x$tells$tells[x$tells$predictor %in% members & x$tells$other %in% members]
}

# What thinning would do, in these very columns.
say_thinned <- function(d, name) {
  gone <- d$predictor[!is.na(d$cluster) & !d$representative]
  if (!length(gone)) {
    return("reduce_predictors(thin_twins = TRUE) would keep them all: none replaces another.")
  }
  paste0(
    "reduce_predictors(thin_twins = TRUE) would leave out ", few_words(name(gone), 8),
    ", where each training part agrees."
  )
}
