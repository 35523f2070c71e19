# R's options that change how numbers and text become each other. Inside the package they stand as
# R itself sets them, whatever the user's are, so that results, prints, figures and files are the
# same for everybody. Options that fitting functions read (contrasts, na.action) stay the user's:
# the models were fitted under them.

usual_settings <- list(
  OutDec = ".", scipen = 0L, digits = 7L, digits.secs = NULL, max.print = 99999L,
  useFancyQuotes = TRUE, scales.decimal.mark = NULL, scales.big.mark = NULL
)

# From now on, until the function of this frame ends. Every verb and method begins with it, most of
# them by check_no_dots().
own_settings <- function(frame = parent.frame()) {
  now <- options()[names(usual_settings)]
  if (identical(unname(now), unname(usual_settings))) return(invisible())
  # the user's are put back whatever comes, an interrupt in between as well
  suspendInterrupts({
    old <- options(usual_settings)
    back <- call("suspendInterrupts", call("options", old))
    do.call(base::on.exit, list(back, add = TRUE, after = FALSE), envir = frame)
  })
  invisible()
}
