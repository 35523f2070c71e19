#' Demo data: a pottery works
#'
#' Made-up fired tiles of a pottery works, simulated by `data-raw/kiln.R`; nothing real is in
#' them. 1,800 training, 600 holdout and 600 untouched rows, 22 predictors and two targets.
#'
#' @param missing TRUE (default): with the missing values. FALSE: they are filled with the
#'   training median, for models that do not take missing values.
#' @param folder Folder with the files; default the package's own.
#' @return A list: `train`, `holdout`, `untouched` (data frames of the same 24 columns; text
#'   columns are factors), `dictionary` (see [read_dictionary()]).
#' @section The simulated truth: `strength` (MPa) is made of, in order of their part in its
#'   variance: peak temperature and hold time, which act alone and together (3.6 and 2.2 MPa per
#'   standard deviation, 1.8 for their product); grog share, not monotone, best at 22 % (-3.4 MPa
#'   per squared standard deviation); cooling rate (-1.6); the heat of the ramp (1.5), which is
#'   not recorded but read by the twins `pyro_left` and `pyro_right`; clay source (-3 to 4); then
#'   weakly water loss (-1.1), drying time (0.9) and drying humidity (-0.8). Normal noise of 2.4
#'   MPa is added.
#'
#' `defect` (none, crack, crawl, warp) is drawn from odds that depend on cooling rate, water loss
#' and drying time (crack), glaze thickness, viscosity and tenmoku glaze (crawl), peak temperature
#' and hold time (warp).
#'
#' Nothing depends on `batch` (48 levels), `operator`, `shelf_position`, `room_humidity`,
#' `clay_moisture`; `tile_id` is an identifier; `water_loss` is derived from `wet_weight` and
#' `dry_weight`; `ring_tone` is measured after the firing and follows the strength: a leak, marked
#' `leave_out` in the dictionary like `tile_id`. `drying_humidity` and `glaze_viscosity` are
#' missing at random in 5 and 4 % of the rows.
#' @examples
#' kiln <- demo_kiln()
#' dim(kiln$train)
#' @export
demo_kiln <- function(
    missing = TRUE, folder = system.file("extdata", package = "dreher")) {
  own_settings()
  out <- read_demo("kiln", folder, c("defect"))
  out$train$defect <- order_levels(out$train$defect, c("none", "crack", "crawl", "warp"))
  out$holdout$defect <- order_levels(out$holdout$defect, levels(out$train$defect))
  out$untouched$defect <- order_levels(out$untouched$defect, levels(out$train$defect))
  if (check_flag(missing, "missing")) return(out)
  for (p in c("drying_humidity", "glaze_viscosity")) {
    middle <- stats::median(out$train[[p]], na.rm = TRUE)
    for (part in c("train", "holdout", "untouched")) {
      out[[part]][[p]][is.na(out[[part]][[p]])] <- middle
    }
  }
  out
}

#' Demo data: a library's loans
#'
#' Made-up loans of a library, simulated by `data-raw/loans.R`; nothing real is in them. 1,500
#' training, 500 holdout and 500 untouched rows, 12 predictors, target `returned_late` (`no`,
#' `yes`).
#'
#' @inheritParams demo_kiln
#' @return A list: `train`, `holdout`, `untouched` (data frames of the same 13 columns; text
#'   columns are factors), `dictionary`.
#' @section The simulated truth: The log-odds of a late return rise with `earlier_late` (0.75
#'   each) and `distance_km` (0.22 per km), fall with a reminder (letter -0.4, message -0.9) and
#'   with `loan_days` (-0.5 per week), and are 0.5 higher for the age band under 18 and 0.15
#'   higher per item. `age_band` is sensitive; `card_type` does nothing by itself but follows the
#'   age: its proxy. `pages`, `genre`, `weekday`, `desk` and `member_years` do nothing.
#' @examples
#' loans <- demo_loans()
#' table(loans$train$returned_late)
#' @export
demo_loans <- function(folder = system.file("extdata", package = "dreher")) {
  own_settings()
  read_demo("loans", folder, "returned_late")
}

read_demo <- function(name, folder, classes) {
  check_string(folder, "folder")
  parts <- c("train", "holdout", "untouched")
  tables <- lapply(stats::setNames(nm = parts), function(part) {
    d <- read_rows(file.path(folder, paste0(name, "_", part, ".csv.gz")), quiet = TRUE)
    attr(d, "read") <- NULL
    d
  })
  text <- names(tables$train)[vapply(tables$train, is.character, NA)]
  for (p in text) {
    all_levels <- sort(unique(unlist(lapply(tables, `[[`, p))), method = "radix")
    for (part in parts) {
      tables[[part]][[p]] <- factor(tables[[part]][[p]], levels = all_levels)
    }
  }
  c(
    tables,
    list(
      dictionary = read_dictionary(file.path(folder, paste0(name, "_dictionary.csv")))
    )
  )
}

order_levels <- function(x, levels) factor(as.character(x), levels = levels)
