# Tasks of a run: each does a share of the pieces, in a process of its own on any machine, into a
# run folder of its own inside that of the run: run/tasks/3-of-50. The call without a task gathers
# what tasks have finished and does the rest.

current_task <- new.env(parent = emptyenv())

#' Do a share of a long call, as one task of a job array
#'
#' Calls with a run folder consist of many pieces that know nothing of each other. `do_task()` does
#' one in `tasks` of them, keeps them in the run folder, and stops. The tasks of a batch
#' scheduler's job array, containers or colleagues do a share each, at the same time and on any
#' machine that sees the folder. The call itself, made afterwards without `do_task()`, gathers
#' what is there, does what is missing, and returns its result: the same to the bit as in one
#' process.
#'
#' @param call A call with `run = `, such as `reduce_predictors(st, run = "night")`.
#' @param task Number of this task, from 1.
#' @param tasks Number of tasks.
#' @return A data frame of one row: `task`, `tasks`, `pieces` (of this task), `done` (those in the
#'   folder now) and `failed`.
#' @details A task that is stopped goes on where it was when it is done again; one that never ends
#'   leaves its pieces to the call that gathers. Where a machine ends in the middle, only the
#'   pieces that it was at are lost. What the pieces have in common (the study, the trained models)
#'   is made by every task once, so there should be many pieces to a task. `dreher reduce --task
#'   3/50` does the same on the command line; `vignette("big")` has the lines for a job array.
#' @section Errors: `task` is not within `tasks`; the call has no run folder; another process is at
#'   the same task; the run folder is that of another run.
#' @examples
#' kiln <- demo_kiln(missing = FALSE)
#' fit <- lm(strength ~ peak_temp * hold_minutes + operator, kiln$train)
#' st <- study(fit, kiln$holdout, "strength", train = kiln$train)
#' drawn <- draw_resamples(kiln$train, times = 6)
#' night <- tempfile("night")
#' do_task(rank_predictors(st, by = "permutation", resamples = drawn, run = night), 1, 2)
#' do_task(rank_predictors(st, by = "permutation", resamples = drawn, run = night), 2, 2)
#' rank_predictors(st, by = "permutation", resamples = drawn, run = night)
#' @export
do_task <- function(call, task, tasks) {
  own_settings()
  tasks <- check_count(tasks, "tasks")
  task <- check_count(task, "task", most = tasks)
  if (!is.null(current_task$now)) {
    stop_input("A task has no tasks: `do_task()` stands around a call, not in another one.")
  }
  set_task(c(task = task, tasks = tasks))
  on.exit(set_task(NULL), add = TRUE)
  tryCatch(
    {
      force(call)
      stop_input(
        "The call has no pieces to share, or no run folder to keep them in.",
        todo = "Give it `run = `, the same folder in every task."
      )
    },
    dreher_task_done = function(done) done$task
  )
}

set_task <- function(now) assign("now", now, envir = current_task)

# The task that the call at hand is to do, or NULL. It is handed out once: what the pieces call is
# not shared again.
take_task <- function(folder) {
  now <- current_task$now
  set_task(NULL)
  if (!is.null(now) && is.null(folder)) {
    stop_input(
      "A task needs a run folder, where the tasks meet.",
      todo = "Give `run = `, the same folder in every task."
    )
  }
  now
}

keys_of_task <- function(keys, now) {
  if (is.null(now)) return(keys)
  keys[(seq_along(keys) - 1) %% now[["tasks"]] + 1 == now[["task"]]]
}

# The run folder that is written to: the task's own.
folder_of_task <- function(folder, now) {
  if (is.null(now)) return(folder)
  file.path(folder, "tasks", paste0(now[["task"]], "-of-", now[["tasks"]]))
}

# Ends the call, however deep: do_task() listens.
end_task <- function(now, keys, failed) {
  signalCondition(structure(
    class = c("dreher_task_done", "condition"),
    list(
      message = "The task is done.",
      call = NULL,
      task = data.frame(
        task = now[["task"]],
        tasks = now[["tasks"]],
        pieces = length(keys),
        done = length(keys) - sum(failed),
        failed = sum(failed)
      )
    )
  ))
}

# Moves what tasks have finished into the folder of the run.
gather_tasks <- function(run, folder, about) {
  shares <- list.files(file.path(folder, "tasks"), "^[0-9]+-of-[0-9]+$", full.names = TRUE)
  for (path in shares) {
    task <- open_folder(path, about)
    tryCatch(move_pieces(task$con, run$con), finally = close_folder(task))
    unlink(path, recursive = TRUE)
  }
}
