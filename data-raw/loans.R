# Simulates the library's loans and writes inst/extdata/loans_*.csv.gz.
# Run from the package's root: Rscript data-raw/loans.R
# The truth is stated in ?demo_loans; change both together.

suppressWarnings(RNGversion("4.0.0"))
set.seed(20261)
n <- c(train = 1500, holdout = 500, untouched = 500)
N <- sum(n)

age_band <- sample(
  c("under 18", "18 to 34", "35 to 59", "60 and over"), N, TRUE, c(.2, .3, .3, .2)
)
# The kind of card follows the age: a proxy of the sensitive attribute.
card_of <- list(
  "under 18" = c(.90, .08, .02),
  "18 to 34" = c(.35, .60, .05),
  "35 to 59" = c(.05, .85, .10),
  "60 and over" = c(.02, .18, .80)
)
card_type <- vapply(
  age_band,
  function(a) sample(c("school", "standard", "senior"), 1, prob = card_of[[a]]),
  ""
)
loan_days <- sample(c(7, 14, 21, 28), N, TRUE, c(.15, .35, .35, .15))
reminders <- sample(c("none", "letter", "message"), N, TRUE, c(.3, .3, .4))
earlier_late <- rpois(N, .9)
distance_km <- round(rexp(N, 1 / 3), 1)
items <- 1 + rpois(N, 2)
pages <- round(exp(rnorm(N, 5.6, .45)))
genre <- sample(c("novel", "history", "science", "comics", "cooking", "travel"), N, TRUE)
weekday <- sample(c("Mon", "Tue", "Wed", "Thu", "Fri", "Sat"), N, TRUE)
desk <- sample(1:4, N, TRUE)
member_years <- round(rexp(N, 1 / 6), 1)

eta <- -.9 + .75 * (earlier_late - .9) - .9 * (reminders == "message") -
  .4 * (reminders == "letter") + .22 * (distance_km - 3) - .5 * (loan_days - 19) / 7 +
  .5 * (age_band == "under 18") + .15 * (items - 3)
returned_late <- ifelse(runif(N) < plogis(eta), "yes", "no")

loans <- data.frame(
  age_band, card_type, loan_days, reminders, earlier_late, distance_km, items, pages,
  genre, weekday, desk, member_years, returned_late
)
part <- rep(names(n), n)
for (p in names(n)) {
  write.csv(
    loans[part == p, ],
    gzfile(file.path("inst", "extdata", paste0("loans_", p, ".csv.gz")), compression = 9),
    row.names = FALSE,
    na = ""
  )
}
