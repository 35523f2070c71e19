# What the help pages say of the made-up data is so.

test_that("sizes, columns, levels and the dictionary fit together", {
  expect_identical(
    vapply(kiln[1:3], nrow, 1L), c(train = 1800L, holdout = 600L, untouched = 600L)
  )
  expect_identical(
    vapply(loans[1:3], nrow, 1L), c(train = 1500L, holdout = 500L, untouched = 500L)
  )
  for (demo in list(kiln, kiln_raw, loans)) {
    expect_identical(lapply(demo$train, levels), lapply(demo$holdout, levels))
    expect_identical(names(demo$train), names(demo$untouched))
    expect_true(all(demo$dictionary$predictor %in% names(demo$train)))
  }
  expect_identical(nrow(kiln$dictionary), 22L)
  expect_setequal(
    kiln$dictionary$predictor[kiln$dictionary$use == "leave_out"],
    c("tile_id", "ring_tone")
  )
  expect_identical(loans$dictionary$predictor[loans$dictionary$sensitive], "age_band")
  ids <- c(kiln$train$tile_id, kiln$holdout$tile_id, kiln$untouched$tile_id)
  expect_identical(anyDuplicated(ids), 0L)
})

test_that("missing values are where they are said to be, and filled on request", {
  share <- colMeans(is.na(rbind(kiln_raw$train, kiln_raw$holdout, kiln_raw$untouched)))
  expect_setequal(names(share)[share > 0], c("drying_humidity", "glaze_viscosity"))
  expect_equal(share[["drying_humidity"]], 0.05, tolerance = 1e-3)
  expect_equal(share[["glaze_viscosity"]], 0.04, tolerance = 1e-3)
  expect_false(anyNA(kiln$train))
  filled <- is.na(kiln_raw$holdout$glaze_viscosity)
  expect_identical(
    unique(kiln$holdout$glaze_viscosity[filled]),
    median(kiln_raw$train$glaze_viscosity, na.rm = TRUE)
  )
  expect_error(demo_kiln(missing = "no"), "`missing` must be TRUE or FALSE")
})

test_that("a regression on the true form recovers the stated effects of the kiln", {
  d <- transform(
    kiln$train,
    peak = (peak_temp - 1180) / 22,
    hold = (hold_minutes - 40) / 17.3,
    grog = ((grog_share - 22) / 8.1)^2,
    cool = (cooling_rate - 95) / 22,
    ramp = ((pyro_left + pyro_right) / 2 - 640) / 25,
    loss = (water_loss - 12) / 1.6,
    hours = (drying_hours - 39) / 12,
    damp = (drying_humidity - 62) / 9
  )
  fit <- lm(
    strength ~
      peak * hold + grog + cool + ramp + clay_source + loss + hours + damp + operator +
        shelf_position + room_humidity + clay_moisture,
    d
  )
  b <- coef(fit)
  truth <- c(
    peak = 3.6, hold = 2.2, grog = -3.4, cool = -1.6, ramp = 1.5, loss = -1.1,
    hours = 0.9, damp = -0.8, "peak:hold" = 1.8
  )
  expect_lt(max(abs(b[names(truth)] - truth)), 0.25)
  expect_equal(sigma(fit), 2.4, tolerance = 0.05)
  idle <- summary(fit)$coefficients[grepl("operator|shelf|room|moisture", names(b)), 4]
  expect_gt(min(p.adjust(idle, "holm")), 0.01)
  expect_gt(cor(kiln$train$pyro_left, kiln$train$pyro_right), 0.95)
  expect_equal(
    kiln$train$water_loss,
    100 * (kiln$train$wet_weight - kiln$train$dry_weight) / kiln$train$wet_weight,
    tolerance = 1e-3
  )
})

test_that(
  paste0(
    "a logistic regression recovers the stated effects of the loans, and the proxy ",
    "does nothing"
  ),
  {
    d <- loans$train
    d$reminders <- relevel(d$reminders, "none")
    fit <- glm(
      returned_late ~
        earlier_late + distance_km + reminders + I(loan_days / 7) +
          I(age_band == "under 18") + items + card_type + pages + desk + member_years,
      binomial,
      d
    )
    b <- coef(fit)
    expect_equal(
      unname(b[c("earlier_late", "distance_km", "remindersmessage", "I(loan_days/7)")]),
      c(0.75, 0.22, -0.9, -0.5),
      tolerance = 0.25
    )
    p <- summary(fit)$coefficients[, 4]
    expect_gt(min(p[grepl("card_type|pages|desk|member", names(p))]), 0.001)
    expect_lt(chisq.test(table(d$age_band, d$card_type))$p.value, 1e-10)
  }
)
