# The whole example: two models of a pottery works' tiles, ranked three ways, reduced, confirmed.

demo_models <- function(kiln) {
  rlang::check_installed("ranger", "for the demo's forest")
  # The ring tone is a leak and stays out; the tile number stays in, to show what becomes of it.
  rows <- kiln$train[setdiff(names(kiln$train), c("ring_tone", "defect"))]
  list(
    forest = ranger::ranger(
      strength ~ ., rows, num.trees = 100, min.node.size = 8, keep.inbag = TRUE, seed = 1,
      num.threads = 2
    ),
    linear = stats::lm(strength ~ . - tile_id - wet_weight - dry_weight, rows)
  )
}

command_demo <- function(given) {
  out <- make_folder(given$out)
  began <- Sys.time()
  tell("Two models of the strength of made-up tiles: a forest and a linear model.")
  kiln <- demo_kiln(missing = FALSE)
  st <- study(
    demo_models(kiln),
    kiln$holdout,
    "strength",
    train = kiln$train,
    dictionary = kiln$dictionary
  )
  scores <- score_models(st)
  checks <- check_data(st)
  drift <- find_drift(st, models = "linear")
  tell("Ranking by impurity, permutation and Shapley values ...")
  rk <- rank_predictors(st, background = 50)
  tell("Training beside shuffled copies, to see what chance alone scores ...")
  nf <- noise_floor(st, models = "forest", refits = 39, repeats = 3)
  rk <- with_floor(rk, nf)
  agreed <- agreement(rk, study = st)
  tell("Ranking again on 20 draws of the rows ...")
  drawn <- draw_resamples(kiln$train, times = 20)
  again <- rank_predictors(st, by = "permutation", repeats = 3, resamples = drawn)
  sb <- withCallingHandlers(
    stability(with_floor(again, nf)),
    dreher_warning_resamples = function(w) invokeRestart("muffleWarning")
  )
  tell("Walking down to fewer predictors ...")
  rd <- reduce_predictors(st, folds = 4, repeats = 1, random = 5)
  set <- choose_set(rd, model = "forest")
  twins <- find_twins(st, ranking = rk, replaceability = TRUE)
  sets <- compare_sets(
    st,
    list(
      all = "all",
      chosen = set,
      `firing only` = c("peak_temp", "hold_minutes", "cooling_rate"),
      none = "none"
    ),
    models = "linear",
    repeats = 1
  )
  cf <- confirm_set(set, kiln$untouched)
  tell("Asking how the chosen predictors act ...")
  acts <- demo_effects(st, set)

  write_demo_tables(out, scores, checks, drift, rk, nf, agreed, sb, rd, sets, cf)
  deliver_effects(acts, out)
  write_predictor_set(set, file.path(out, "set.json"))
  draw_demo(out, rk, nf, agreed, sb, rd, set, twins, scores, checks, drift, sets, cf)
  write_report(
    st,
    drift,
    rk,
    nf,
    agreed,
    sb,
    twins,
    rd,
    set,
    sets,
    cf,
    acts$effects,
    acts$interactions,
    acts$contributions,
    acts$slices,
    file = file.path(out, "report.html"),
    title = "What makes a tile strong"
  )
  put_out(format_run(list(
    study = st, scores = scores, checks = checks, ranking = rk, stability = sb, set = set,
    confirmation = cf, folder = given$out
  )))
  seconds <- round(as.double(difftime(Sys.time(), began, units = "secs")))
  tell("Done in ", seconds, " s. In ", out, ":\n", demo_files)
}

# How the predictors of the set act in the forest.
demo_effects <- function(st, set) {
  kept <- utils::head(set$predictors, 6)
  list(
    effects = effect_curves(st, predictors = kept, models = "forest"),
    interactions = interactions(
      st, predictors = kept, models = "forest", max_rows = 100, background = 30
    ),
    contributions = contributions(st, models = "forest", which = 1:200, background = 30),
    row = contributions(st, models = "forest", which = 12, background = 50),
    slices = compare_slices(
      st, ~clay_source, models = "forest", by = c("score", "shapley"), max_rows = 200,
      background = 30
    )
  )
}

deliver_effects <- function(acts, out) {
  for (name in names(acts)) {
    write_results(acts[[name]], file.path(out, paste0(name, ".csv")))
    save_picture(ggplot2::autoplot(acts[[name]]), file.path(out, paste0(name, ".png")))
  }
}

demo_files <- paste0(
  "  tables    scores.csv checks.csv drift.csv ranking.csv ranking.json floor.csv\n",
  "            agreement.csv stability.csv\n",
  "            reduction.csv sets.csv set.json confirmation.json effects.csv\n",
  "            interactions.csv contributions.csv row.csv slices.csv\n",
  "  pictures  ranking.png methods.png floor.png agreement.png stability.png twins.png\n",
  "            reduction.png curves.png scores.png set.png sets.png confirmation.png\n",
  "            effects.png interactions.png contributions.png row.png slices.png\n",
  "            checks.png drift.png trees.png\n",
  "  report    report.html"
)

write_demo_tables <- function(
    out, scores, checks, drift, rk, nf, agreed, sb, rd, sets, cf) {
  files <- list(
    scores.csv = scores, checks.csv = checks, drift.csv = drift, ranking.csv = rk,
    ranking.json = rk, floor.csv = nf, agreement.csv = agreed, stability.csv = sb,
    reduction.csv = rd, sets.csv = sets, confirmation.json = cf
  )
  for (name in names(files)) write_results(files[[name]], file.path(out, name))
}

draw_demo <- function(
    out, rk, nf, agreed, sb, rd, set, twins, scores, checks, drift, sets, cf) {
  pictures <- list(
    ranking = ggplot2::autoplot(rk), methods = plot_ranks(rk),
    floor = ggplot2::autoplot(nf), agreement = ggplot2::autoplot(agreed),
    stability = ggplot2::autoplot(sb), reduction = ggplot2::autoplot(rd, set = set),
    curves = ggplot2::autoplot(rd), twins = ggplot2::autoplot(twins),
    scores = ggplot2::autoplot(scores), set = ggplot2::autoplot(set),
    checks = ggplot2::autoplot(checks), drift = ggplot2::autoplot(drift),
    trees = ggplot2::autoplot(scores, show = "trees"),
    sets = ggplot2::autoplot(sets), confirmation = ggplot2::autoplot(cf)
  )
  for (name in names(pictures)) {
    save_picture(pictures[[name]], file.path(out, paste0(name, ".png")))
  }
}
