# Simulates the pottery works' tiles and writes inst/extdata/kiln_*.csv.gz.
# Run from the package's root: Rscript data-raw/kiln.R
# The truth is stated in ?demo_kiln; change both together.

suppressWarnings(RNGversion("4.0.0"))
set.seed(20260)
n <- c(train = 1800, holdout = 600, untouched = 600)
N <- sum(n)

clay_source <- sample(c("river", "hill", "quarry", "pit"), N, TRUE, c(.4, .3, .2, .1))
grog_share <- runif(N, 8, 36)
clay_moisture <- rnorm(N, 21, 2)
wet_weight <- rnorm(N, 1240, 60)
water_loss <- pmin(pmax(rnorm(N, 12, 1.6), 7), 17)
dry_weight <- round(wet_weight * (1 - water_loss / 100), 1)
wet_weight <- round(wet_weight, 1)
water_loss <- round(100 * (wet_weight - dry_weight) / wet_weight, 2)
drying_hours <- round(runif(N, 18, 60), 1)
drying_humidity <- round(pmin(pmax(rnorm(N, 62, 9), 30), 95), 1)
glaze_type <- sample(c("clear", "celadon", "tenmoku"), N, TRUE, c(.5, .3, .2))
glaze_viscosity <- round(rnorm(N, 48, 6), 1)
glaze_thickness <- round(pmax(rnorm(N, .62, .12), .2), 3)
peak_temp <- round(rnorm(N, 1180, 22), 1)
hold_minutes <- round(runif(N, 10, 70))
ramp_heat <- rnorm(N, 640, 25)                       # not recorded: two pyrometers read it
pyro_left <- round(ramp_heat + rnorm(N, 0, 4), 1)
pyro_right <- round(ramp_heat + rnorm(N, 0, 4), 1)
cooling_rate <- round(pmax(rnorm(N, 95, 22), 25), 1)
shelf_position <- sample(1:12, N, TRUE)
room_humidity <- round(rnorm(N, 48, 11), 1)
operator <- sample(c("Ada", "Bo", "Cleo", "Dara", "Eli"), N, TRUE)
batch <- sprintf("B%02d", sample(1:48, N, TRUE))
tile_id <- 100000 + sample(1:(3 * N), N)

# strength in MPa
peak <- (peak_temp - 1180) / 22
hold <- (hold_minutes - 40) / 17.3
strength <- 42 + 3.6 * peak + 2.2 * hold + 1.8 * peak * hold -
  3.4 * ((grog_share - 22) / 8.1)^2 + 1.5 * (ramp_heat - 640) / 25 -
  1.6 * (cooling_rate - 95) / 22 +
  c(river = 0, hill = 2.6, quarry = -3, pit = 4)[clay_source] -
  1.1 * (water_loss - 12) / 1.6 + .9 * (drying_hours - 39) / 12 -
  .8 * (drying_humidity - 62) / 9 + rnorm(N, 0, 2.4)
strength <- round(strength, 2)

# The tone of a fired tile when struck: follows the strength, and is known only after the firing.
ring_tone <- round(880 + 14 * (strength - 42) + rnorm(N, 0, 22))

# defect: none, crack, crawl, warp
crack <- -3.2 + 1.1 * (cooling_rate - 95) / 22 + .9 * (water_loss - 12) / 1.6 -
  .5 * (drying_hours - 39) / 12
crawl <- -3.0 + 1.3 * (glaze_thickness - .62) / .12 + .8 * (glaze_type == "tenmoku") -
  .7 * (glaze_viscosity - 48) / 6
warp <- -3.4 + 1.2 * peak + .8 * hold
odds <- cbind(none = 1, crack = exp(crack), crawl = exp(crawl), warp = exp(warp))
share <- odds / rowSums(odds)
draw <- runif(N)
defect <- colnames(share)[1 + rowSums(draw > t(apply(share, 1, cumsum))[, 1:3])]

kiln <- data.frame(
  tile_id,
  batch,
  clay_source,
  grog_share = round(grog_share, 1),
  clay_moisture = round(clay_moisture, 1),
  wet_weight,
  dry_weight,
  water_loss,
  drying_hours,
  drying_humidity,
  glaze_type,
  glaze_viscosity,
  glaze_thickness,
  peak_temp,
  hold_minutes,
  pyro_left,
  pyro_right,
  cooling_rate,
  shelf_position,
  room_humidity,
  operator,
  ring_tone,
  strength,
  defect
)
kiln$drying_humidity[sample(N, round(.05 * N))] <- NA
kiln$glaze_viscosity[sample(N, round(.04 * N))] <- NA

part <- rep(names(n), n)
for (p in names(n)) {
  write.csv(
    kiln[part == p, ],
    gzfile(file.path("inst", "extdata", paste0("kiln_", p, ".csv.gz")), compression = 9),
    row.names = FALSE,
    na = ""
  )
}
