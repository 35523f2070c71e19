# Breaks long lines of R code: Rscript tools/format.R FILE...
#
# A statement that fits on its line stays as it was written. One that does not is laid out anew
# from its parse tree: arguments on one line of their own where they fit there, otherwise one a
# line; operators end their line; the branches of an `if` get braces. Strings too long for a line
# are cut into pieces of `paste0()`. Comments are filled. Afterwards the file is parsed again:
# where the code is not the same up to braces and `paste0()` of constants, the file is left alone
# and named.

# What is laid out anew is so wide; no line is wider than the limit.
width <- 90
limit <- 100

# The parse tree as a list of nodes over one row of terminals.
read_tree <- function(lines) {
  exprs <- parse(text = lines, keep.source = TRUE)
  table <- utils::getParseData(exprs, includeText = FALSE)
  if (is.null(table)) return(NULL)
  table <- table[
    order(table$line1, table$col1, -table$line2, -table$col2, !table$terminal),
  ]
  leaves <- which(table$terminal)
  text <- mapply(
    function(l1, c1, l2, c2) {
      if (l1 == l2) {
        substr(lines[l1], c1, c2)
      } else {
        paste(
          c(
            substring(lines[l1], c1), if (l2 > l1 + 1) lines[(l1 + 1):(l2 - 1)],
            substr(lines[l2], 1, c2)
          ),
          collapse = "\n"
        )
      }
    },
    table$line1[leaves],
    table$col1[leaves],
    table$line2[leaves],
    table$col2[leaves]
  )
  t <- data.frame(
    id = table$id[leaves],
    parent = table$parent[leaves],
    token = table$token[leaves],
    text = unname(text),
    line1 = table$line1[leaves],
    line2 = table$line2[leaves],
    col1 = table$col1[leaves],
    col2 = table$col2[leaves]
  )
  list(
    table = table,
    leaves = t,
    children = split(table$id, factor(table$parent, unique(table$parent))),
    token = stats::setNames(table$token, table$id),
    leaf = stats::setNames(seq_len(nrow(t)), t$id)
  )
}

new_printer <- function(lines) {
  tree <- read_tree(lines)
  leaves <- tree$leaves
  n <- nrow(leaves)
  gap <- character(n)
  for (i in seq_len(n - 1)) {
    gap[i] <- if (leaves$line2[i] == leaves$line1[i + 1]) {
      strrep(" ", leaves$col1[i + 1] - leaves$col2[i] - 1)
    } else if (leaves$token[i] %in% c("'('", "'['", "LBB", "'!'") ||
        leaves$token[i + 1] %in% c("')'", "']'", "','", "'('")) {
      ""
    } else {
      " "
    }
  }
  kids <- function(id) {
    k <- tree$children[[as.character(id)]]
    if (is.null(k)) integer() else k
  }
  token <- function(id) tree$token[[as.character(id)]]
  span_cache <- new.env()
  span <- function(id) {
    key <- as.character(id)
    if (!is.null(span_cache[[key]])) return(span_cache[[key]])
    at <- tree$leaf[key]
    s <- if (!is.na(at)) {
      c(at, at)
    } else {
      k <- kids(id)
      c(span(k[1])[1], span(k[length(k)])[2])
    }
    span_cache[[key]] <- unname(s)
    unname(s)
  }
  text <- function(id) leaves$text[tree$leaf[[as.character(id)]]]
  # One line, or NULL where that cannot be: comments, blocks, strings over several lines.
  flat <- function(from, to = from) {
    a <- span(from)[1]
    b <- span(to)[2]
    at <- a:b
    if (any(leaves$token[at] == "COMMENT") || any(leaves$line2[at] > leaves$line1[at])) {
      return(NULL)
    }
    open <- at[leaves$token[at] == "'{'"]
    if (length(open) && any(open + 1 > b | leaves$token[pmin(open + 1, n)] != "'}'")) {
      return(NULL)
    }
    if (any(leaves$token[at] == "';'")) return(NULL)
    paste0(leaves$text[at], c(gap[at[-length(at)]], ""), collapse = "")
  }
  fits <- function(x, col, after = 0) {
    !is.null(x) && nchar(x, "width") + col + after <= width
  }
  blank <- function(k) strrep(" ", k)
  binary <- c(
    "AND", "AND2", "OR", "OR2", "'+'", "'-'", "'*'", "'/'", "SPECIAL", "GT", "LT", "GE",
    "LE", "EQ", "NE", "PIPE", "'~'", "LEFT_ASSIGN", "EQ_ASSIGN", "RIGHT_ASSIGN"
  )
  loose <- list(
    c("OR", "OR2"), c("AND", "AND2"), c("'+'", "'-'"), c("'*'", "'/'"), "PIPE"
  )

  # Lines of a node. The first line starts at column `col` (what is before it is on the page
  # already); further lines are indented from `ind`. `after`: characters that must still fit
  # behind the last line.
  show <- function(id, ind, col, after = 0) {
    f <- flat(id)
    if (fits(f, col, after)) {
      k <- kids(id)
      return(f)
    }
    if (!is.na(tree$leaf[as.character(id)])) return(show_leaf(id, ind, col, after))
    k <- kids(id)
    tk <- vapply(k, token, "")
    if (length(k) == 1) return(show(k, ind, col, after))
    if (tk[1] == "'{'") return(show_block(k, ind))
    if (tk[1] %in% c("FUNCTION", "'\\\\'")) return(show_function(k, tk, ind, col, after))
    if (tk[1] == "IF") return(show_if(k, tk, ind, col, after))
    if (tk[1] %in% c("FOR", "WHILE")) return(show_loop(k, tk, ind, col))
    if (tk[1] == "REPEAT") return(glue("repeat ", show_body(k[2], ind, col + 7)))
    if (tk[1] == "'('") return(show_list(k, tk, 1, "", ind, col, after))
    if (any(tk %in% c("'('", "'['", "LBB"))) {
      at <- which(tk %in% c("'('", "'['", "LBB"))[1]
      head <- show(k[1], ind, col)
      if (at == 2) return(show_list(k, tk, 2, head, ind, col, after))
    }
    code <- which(tk %in% binary)
    if (length(k) >= 3 && length(code) && code[1] >= 2) {
      return(show_binary(id, k, tk, ind, col, after))
    }
    if (length(k) == 2) {
      lead <- flat(k[1])
      g <- gap[span(k[1])[2]]
      return(glue(paste0(lead, g), show(k[2], ind, col + nchar(lead) + nchar(g), after)))
    }
    if (length(k) == 3 && !tk[2] %in% c("COMMENT")) {
      head <- show(k[1], ind, col)
      tail <- flat(k[2], k[3])
      head[length(head)] <- paste0(head[length(head)], gap[span(k[1])[2]], tail)
      return(head)
    }
    if (is.null(f)) stop("no layout for ", paste(tk, collapse = " "))
    f
  }
  glue <- function(lead, lines) {
    lines[1] <- paste0(lead, lines[1])
    lines
  }

  # A string too long for its line: cut at blanks, joined by paste0().
  show_leaf <- function(id, ind, col, after) {
    s <- text(id)
    if (token(id) != "STR_CONST" || grepl("\n", s) || !grepl("^[\"']", s)) {
      return(strsplit(s, "\n")[[1]])
    }
    bits <- cut_string(s, width - ind - 4)
    if (length(bits) == 1) return(s)
    c(
      "paste0(", paste0(blank(ind + 2), bits, c(rep(",", length(bits) - 1), "")),
      paste0(blank(ind), ")")
    )
  }
  cut_string <- function(s, room) {
    q <- substr(s, 1, 1)
    inner <- substr(s, 2, nchar(s) - 1)
    room <- max(room, 40)
    out <- character()
    while (nchar(inner) + 2 > room) {
      blanks <- gregexpr(" ", inner, fixed = TRUE)[[1]]
      blanks <- blanks[blanks > 1 & blanks <= room - 3 & blanks < nchar(inner)]
      if (!length(blanks)) break
      at <- max(blanks)
      out <- c(out, paste0(q, substr(inner, 1, at), q))
      inner <- substring(inner, at + 1)
    }
    c(out, paste0(q, inner, q))
  }

  # What stands in the braces of a block, statement by statement, with its comments and blank lines.
  show_block <- function(k, ind) {
    c("{", show_statements(k[-c(1, length(k))], ind + 2, k[1]), paste0(blank(ind), "}"))
  }

  show_statements <- function(ids, ind, before = NULL) {
    out <- character()
    last <- if (is.null(before)) 0 else leaves$line2[span(before)[2]]
    start <- length(out)
    for (id in ids) {
      tk <- token(id)
      if (tk == "';'") next
      s <- span(id)
      line <- leaves$line1[s[1]]
      if (tk == "COMMENT") {
        if (line == last && length(out)) {
          whole <- paste0(out[length(out)], "  ", text(id))
          if (nchar(whole) <= limit) {
            out[length(out)] <- whole
            next
          }
          # the comment goes before the statement it stood behind
          out <- append(out, paste0(blank(ind), text(id)), start)
          next
        }
        if (line > last + 1 && last > 0 && length(out)) out <- c(out, "")
        out <- c(out, paste0(blank(ind), text(id)))
        last <- line
        next
      }
      if (line > last + 1 && last > 0 && length(out)) out <- c(out, "")
      start <- length(out)
      out <- c(out, glue(blank(ind), show(id, ind, ind)))
      last <- leaves$line2[s[2]]
    }
    out
  }

  # A body of a function, loop or branch: in braces unless it has them.
  show_body <- function(id, ind, col) {
    k <- kids(id)
    if (length(k) && token(k[1]) == "'{'") return(show(id, ind, col))
    c("{", show_statements(id, ind + 2), paste0(blank(ind), "}"))
  }

  show_function <- function(k, tk, ind, col, after) {
    close <- max(which(tk == "')'"))
    body <- k[length(k)]
    between <- tk[(close + 1):(length(k))]
    head <- flat(k[1], k[close])
    comments <- k[which(tk == "COMMENT" & seq_along(tk) > close)]
    if (length(comments)) stop("a comment between the head and the body of a function")
    if (!fits(head, col, 2)) {
      args <- split_args(k[3:(close - 1)], tk[3:(close - 1)])
      texts <- vapply(
        args$items,
        function(a) paste(show_arg(a, ind + 4, ind + 4, 1), collapse = "\n"),
        ""
      )
      head <- c("function(", fill(texts, ind + 4, 3))
      head[length(head)] <- paste0(head[length(head)], ")")
    }
    b <- kids(body)
    one <- flat(body)
    if (length(head) == 1 && !(length(b) && token(b[1]) == "'{'")) {
      # a body that can itself be laid out from here, such as a call with its arguments below
      if (fits(one, col + nchar(head) + 1, after)) return(paste(head, one))
    }
    lines <- show_body(body, ind, ind)
    c(head[-length(head)], glue(paste0(head[length(head)], " "), lines))
  }

  show_if <- function(k, tk, ind, col, after) {
    if (any(tk == "COMMENT")) stop("a comment inside if ... else")
    cond <- which(tk == "'('")[1] + 1
    head <- show_condition(k[cond], "if (", ind, col)
    yes <- k[cond + 2]
    no <- if ("ELSE" %in% tk) k[which(tk == "ELSE") + 1]
    out <- c(
      head[-length(head)], glue(paste0(head[length(head)], " "), show_body(yes, ind, ind))
    )
    if (is.null(no)) return(out)
    kn <- kids(no)
    tail <- if (length(kn) && token(kn[1]) == "IF") {
      show_if(kn, vapply(kn, token, ""), ind, ind + 7, after)
    } else {
      show_body(no, ind, ind)
    }
    c(out[-length(out)], glue(paste0(out[length(out)], " else "), tail))
  }

  show_condition <- function(id, lead, ind, col) {
    f <- flat(id)
    if (fits(f, col + nchar(lead), 3)) return(paste0(lead, f, ")"))
    lines <- show(id, ind + 2, col + nchar(lead), 3)
    lines[length(lines)] <- paste0(lines[length(lines)], ")")
    glue(lead, lines)
  }

  show_loop <- function(k, tk, ind, col) {
    if (tk[1] == "FOR") {
      head <- paste0("for ", flat(k[2]))
      if (!fits(head, col, 2)) {
        parts <- kids(k[2])
        head <- glue(
          paste0("for (", flat(parts[2]), " in "), show(parts[4], ind + 2, ind + 8, 3)
        )
        head[length(head)] <- paste0(head[length(head)], ")")
      }
    } else {
      head <- show_condition(k[3], "while (", ind, col)
    }
    c(
      head[-length(head)],
      glue(paste0(head[length(head)], " "), show_body(k[length(k)], ind, ind))
    )
  }

  # Arguments between an opening and a closing bracket: groups of ids, comments on lines of their
  # own.
  split_args <- function(ids, tk) {
    items <- list()
    now <- integer()
    empty_last <- FALSE
    for (i in seq_along(ids)) {
      if (tk[i] == "','") {
        items <- c(items, list(now))
        now <- integer()
      } else if (tk[i] == "COMMENT") {
        items <- c(items, list(structure(ids[i], remark = TRUE)))
      } else {
        now <- c(now, ids[i])
      }
    }
    list(
      items = c(
        items, if (length(now) || (length(tk) && tk[length(tk)] == "','")) list(now)
      )
    )
  }
  is_comment <- function(a) isTRUE(attr(a, "remark"))

  # One argument: `name = value`, `name =`, a value, or nothing.
  show_arg <- function(ids, ind, col, after) {
    if (!length(ids)) return("")
    if (length(ids) == 1) return(show(ids, ind, col, after))
    f <- flat(ids[1], ids[length(ids)])
    if (fits(f, col, after) || length(ids) < 3) return(f)
    lead <- paste0(flat(ids[1]), " = ")
    glue(lead, show(ids[3], ind, col + nchar(lead), after))
  }

  fill <- function(texts, ind, after) {
    out <- character()
    now <- blank(ind)
    for (i in seq_along(texts)) {
      bit <- paste0(texts[i], if (i < length(texts)) ",")
      if (nchar(trimws(now)) &&
          nchar(now) + 1 + nchar(bit) + (i == length(texts)) * after > width) {
        out <- c(out, now)
        now <- blank(ind)
      }
      now <- paste0(now, if (nchar(trimws(now))) " ", bit)
    }
    unlist(strsplit(c(out, now), "\n"))
  }

  # f(...), x[...], x[[...]], (...): what is before the bracket is in `head` (lines).
  show_list <- function(k, tk, at, head, ind, col, after) {
    open <- text(k[at])
    closers <- if (tk[at] == "LBB") 2 else 1
    last <- length(k) - closers
    close <- if (closers == 2) "]]" else text(k[length(k)])
    inner <- if (last > at) (at + 1):last else integer()
    args <- split_args(k[inner], tk[inner])$items
    col <- (if (length(head) > 1) 0 else col) + nchar(head[length(head)])
    lead <- paste0(head[length(head)], open)
    front <- head[-length(head)]
    if (!length(args)) return(c(front, paste0(lead, close)))
    commented <- any(vapply(args, is_comment, NA))
    # The last argument is a block or a function: it may begin on this line.
    if (!commented) {
      hug <- length(args)
      final <- args[[hug]]
      if (length(final) && hugs(final[length(final)])) {
        before <- if (hug > 1) {
          vapply(
            args[-hug],
            function(a) {
              f <- if (length(a)) flat(a[1], a[length(a)]) else ""
              if (is.null(f)) NA_character_ else f
            },
            ""
          )
        } else {
          character()
        }
        if (!anyNA(before)) {
          start <- paste0(open, paste0(before, ", ", collapse = "")[hug > 1])
          tail <- show_arg(final, ind, col + nchar(start), nchar(close) + after)
          first <- col + nchar(start) + nchar(tail[1])
          if (first <= width && length(tail) > 1) {
            tail[length(tail)] <- paste0(tail[length(tail)], close)
            return(c(front, glue(paste0(head[length(head)], start), tail)))
          }
        }
      }
    }
    if (at == 1 || (length(args) == 1 && tk[at] != "'('")) {
      # brackets around one expression: laid out in place
      if (!commented && length(args) == 1) {
        tail <- show_arg(args[[1]], ind + 2, col + nchar(open), nchar(close) + after)
        tail[length(tail)] <- paste0(tail[length(tail)], close)
        return(c(front, glue(lead, tail)))
      }
    }
    if (!commented && length(args) == 1 && tk[at] == "'('" && length(args[[1]]) == 1) {
      inner_id <- args[[1]]
      ki <- kids(inner_id)
      # f(g(...)): one call around another opens both on this line
      if (length(ki) > 1 && token(ki[2]) == "'('") {
        tail <- show_arg(inner_id, ind, col + nchar(open), nchar(close) + after)
        if (max(nchar(tail[1]) + col + nchar(open), nchar(tail)) <= width) {
          tail[length(tail)] <- paste0(tail[length(tail)], close)
          return(c(front, glue(lead, tail)))
        }
      }
    }
    ind2 <- ind + 2
    if (!commented) {
      one <- vapply(
        args,
        function(a) {
          f <- if (length(a)) flat(a[1], a[length(a)]) else ""
          if (is.null(f)) NA_character_ else f
        },
        ""
      )
      if (!anyNA(one)) {
        line <- paste(one, collapse = ", ")
        # an argument alone, or all on one line below
        if (nchar(line) + ind2 <= width && length(args) > 1) {
          return(c(front, lead, paste0(blank(ind2), line), paste0(blank(ind), close, "")))
        }
        if (all(nchar(one) <= 24) && length(args) > 5) {
          return(c(front, lead, fill(one, ind2, 1), paste0(blank(ind), close)))
        }
      }
    }
    if (!commented &&
        grepl("(^|[^A-Za-z0-9_.])(paste0|paste|c|cat)$", head[length(head)])) {
      return(c(
        front, lead, fill_args(args, ind2, grepl("paste0$", head[length(head)])),
        paste0(blank(ind), close)
      ))
    }
    real <- which(!vapply(args, is_comment, NA))
    out <- character()
    for (i in seq_along(args)) {
      a <- args[[i]]
      if (is_comment(a)) {
        out <- c(out, paste0(blank(ind2), text(a)))
        next
      }
      lines <- show_arg(a, ind2, ind2, 1)
      lines[1] <- paste0(blank(ind2), lines[1])
      if (i != real[length(real)]) {
        lines[length(lines)] <- paste0(lines[length(lines)], ",")
      }
      out <- c(out, lines)
    }
    # nothing behind an empty last argument (x[i, ])
    out <- sub("^ +$", blank(ind2), out)
    c(front, lead, out, paste0(blank(ind), close))
  }

  # Several arguments a line; a constant text too long for one is cut where it is pasted.
  fill_args <- function(args, ind, pasted) {
    items <- list()
    for (a in args) {
      id <- if (length(a) == 1) a else 0
      while (id != 0 && length(kids(id)) == 1) id <- kids(id)
      constant <- id != 0 && !is.na(tree$leaf[as.character(id)]) &&
        token(id) == "STR_CONST" && grepl("^[\"']", text(id)) && !grepl("\n", text(id))
      if (pasted && constant && nchar(text(id)) + ind + 1 > width) {
        items <- c(items, as.list(cut_string(text(id), width - ind - 1)))
      } else {
        items <- c(items, list(show_arg(a, ind, ind, 1)))
      }
    }
    out <- character()
    now <- ""
    for (i in seq_along(items)) {
      lines <- items[[i]]
      if (i < length(items)) lines[length(lines)] <- paste0(lines[length(lines)], ",")
      if (length(lines) > 1) {
        if (nzchar(now)) out <- c(out, paste0(blank(ind), now))
        out <- c(out, paste0(blank(ind), lines[1]), lines[-1])
        now <- ""
      } else if (nzchar(now) && nchar(now) + 1 + nchar(lines) + ind > width) {
        out <- c(out, paste0(blank(ind), now))
        now <- lines
      } else {
        now <- paste0(now, if (nzchar(now)) " ", lines)
      }
    }
    c(out, if (nzchar(now)) paste0(blank(ind), now))
  }

  hugs <- function(id) {
    if (!is.na(tree$leaf[as.character(id)])) return(FALSE)
    k <- kids(id)
    if (length(k) == 1) return(hugs(k))
    token(k[1]) %in% c("'{'", "FUNCTION", "'\\\\'")
  }

  # Operators: a chain of the same strength is broken behind each of its operators.
  show_binary <- function(id, k, tk, ind, col, after) {
    if (any(tk == "COMMENT")) {
      # a comment behind an operator: kept at the end of its line
      out <- character()
      now <- ""
      start <- col
      for (i in seq_along(k)) {
        if (tk[i] == "COMMENT") {
          out <- c(out, paste0(now, "  ", text(k[i])))
          now <- blank(ind + 2)
          next
        }
        lines <- if (tk[i] %in% binary) text(k[i]) else show(k[i], ind + 2, nchar(now), 0)
        now <- paste0(now, if (nchar(trimws(now))) " ", lines[1])
        if (length(lines) > 1) {
          out <- c(out, now, lines[-c(1, length(lines))])
          now <- lines[length(lines)]
        }
      }
      return(c(out, now))
    }
    op <- which(tk %in% binary)[1]
    if (tk[op] %in% c("LEFT_ASSIGN", "EQ_ASSIGN")) {
      head <- show(k[1], ind, col)
      lead <- paste0(head[length(head)], " ", text(k[op]), " ")
      rhs <- show(k[op + 1], ind, (if (length(head) > 1) 0 else col) + nchar(lead), after)
      return(c(head[-length(head)], glue(lead, rhs)))
    }
    group <- Filter(function(g) tk[op] %in% g, loose)
    group <- if (length(group)) group[[1]] else tk[op]
    parts <- list()
    ops <- character()
    walk <- function(id) {
      k <- kids(id)
      tk <- vapply(k, token, "")
      if (length(k) == 3 && tk[2] %in% group) {
        walk(k[1])
        ops <<- c(ops, text(k[2]))
        parts <<- c(parts, k[3])
      } else {
        parts <<- c(parts, id)
      }
    }
    walk(id)
    # the last operand is a call that can be laid out below: keep the operators on the line
    f <- NULL
    if (length(parts) == 2 &&
        tk[op] %in% c(
          "SPECIAL", "EQ", "NE", "'*'", "'/'", "'+'", "'-'", "LT", "GT", "LE", "GE"
        )) {
      lead <- flat(parts[[1]])
      if (!is.null(lead)) {
        lead <- paste0(lead, " ", ops[1], " ")
        if (col + nchar(lead) < width - 20) {
          tail <- show(parts[[2]], ind, col + nchar(lead), after)
          if (nchar(tail[1]) + col + nchar(lead) <= width) return(glue(lead, tail))
        }
      }
    }
    out <- character()
    now <- ""
    for (i in seq_along(parts)) {
      at <- if (!length(out)) col + nchar(now) else nchar(now)
      suffix <- if (i < length(parts)) paste0(" ", ops[i]) else ""
      f <- flat(parts[[i]])
      room <- nchar(suffix) + (i == length(parts)) * after
      if (i > 1 && !(fits(f, at + 1, room))) {
        out <- c(out, now)
        now <- blank(ind + 2)
        at <- ind + 1
      }
      if (nchar(trimws(now))) now <- paste0(now, " ")
      lines <- show(
        parts[[i]],
        if (length(out)) ind + 2 else ind,
        if (!length(out)) col + nchar(now) else nchar(now),
        room
      )
      now <- paste0(now, lines[1])
      if (length(lines) > 1) {
        out <- c(out, now, lines[-c(1, length(lines))])
        now <- lines[length(lines)]
      }
      now <- paste0(now, suffix)
    }
    c(out, now)
  }

  top <- function() {
    table <- tree$table
    ids <- table$id[table$parent <= 0]
    ids <- ids[order(vapply(ids, function(i) span(i)[1], 0))]
    out <- character()
    last <- 0
    start <- 0
    verbatim <- FALSE
    for (id in ids) {
      s <- span(id)
      line <- leaves$line1[s[1]]
      end <- leaves$line2[s[2]]
      if (line == last && token(id) == "COMMENT") {
        if (verbatim) next
        whole <- paste0(out[length(out)], "  ", text(id))
        if (nchar(whole) <= limit) {
          out[length(out)] <- whole
        } else {
          out <- append(out, text(id), start)
        }
        next
      }
      if (line > last + 1) out <- c(out, rep("", min(line - last - 1, 2)))
      start <- length(out)
      verbatim <- all(nchar(lines[line:end]) <= width + 4)
      out <- c(
        out,
        if (verbatim) {
          lines[line:end]
        } else if (token(id) == "COMMENT") {
          text(id)
        } else {
          show(id, 0, 0)
        }
      )
      last <- end
    }
    out
  }
  list(top = top)
}

# Comments.
fill_text <- function(words, lead, hang) {
  out <- character()
  now <- lead
  for (w in words) {
    if (nchar(now) > nchar(lead) && nchar(now) + 1 + nchar(w) > limit - 2) {
      out <- c(out, now)
      now <- hang
      lead <- hang
    }
    now <- paste0(now, if (nchar(now) > nchar(lead)) " ", w)
  }
  c(out, now)
}
words_of <- function(x) strsplit(trimws(x), " +")[[1]]

# Runs of comment lines with one that is too long are filled, paragraph by paragraph.
fill_comments <- function(lines) {
  out <- character()
  i <- 1
  in_examples <- FALSE
  while (i <= length(lines)) {
    l <- lines[i]
    if (!grepl("^\\s*#", l)) {
      out <- c(out, l)
      i <- i + 1
      in_examples <- FALSE
      next
    }
    mark <- regmatches(l, regexpr("^\\s*#'?", l))
    rest <- substring(l, nchar(mark) + 1)
    roxygen <- grepl("'$", mark)
    if (roxygen && grepl("^ @", rest)) in_examples <- grepl("^ @examples", rest)
    # the paragraph that begins here
    starts <- function(r) {
      grepl("^ *(@|[-*] |[0-9]+[.] |\\||```|\\\\item|[}]$|---|#)", r) ||
        !nzchar(trimws(r)) || grepl("^   ", r)
    }
    j <- i
    if (!(in_examples ||
          grepl(
            paste0(
              "^ *(\\||```)|^ ",
              "@(examples|export|name|rdname|inheritParams|importFrom|useDynLib|keywords)"
            ),
            rest
          ) || !nzchar(trimws(rest)))) {
      while (j < length(lines)) {
        nxt <- lines[j + 1]
        if (!startsWith(nxt, mark) || (!roxygen && startsWith(nxt, paste0(mark, "'")))) {
          break
        }
        r <- substring(nxt, nchar(mark) + 1)
        if (grepl("^ *\\\\item", r)) break
        if (starts(r) &&
            !(grepl("^   ", r) && grepl("^ *(@param|@return|[-*] |\\\\item)", rest))) {
          break
        }
        j <- j + 1
      }
      block <- lines[i:j]
      if (any(nchar(block) > limit)) {
        item <- grepl("^ *([-*] |[0-9]+[.] )", rest)
        pad <- regmatches(rest, regexpr("^ *", rest))
        hang <- paste0(
          mark, pad, if (item) "  " else if (roxygen && grepl("^ @", rest)) "  " else ""
        )
        words <- words_of(paste(substring(block, nchar(mark) + 1), collapse = " "))
        block <- fill_text(words, paste0(mark, pad), hang)
      }
      out <- c(out, block)
      i <- j + 1
      next
    }
    out <- c(out, l)
    i <- i + 1
  }
  out
}

# The same code, up to braces and pasted constants.
same_code <- function(a, b) {
  identical(
    normal(parse(text = a, keep.source = FALSE)),
    normal(parse(text = b, keep.source = FALSE))
  )
}
normal <- function(e) {
  if (is.expression(e)) return(lapply(as.list(e), normal))
  if (is.pairlist(e)) return(lapply(as.list(e), normal))
  if (!is.call(e)) return(e)
  if (identical(e[[1]], as.name("{")) && length(e) == 2) return(normal(e[[2]]))
  parts <- lapply(as.list(e), function(x) if (missing(x)) quote(expr = ) else normal(x))
  if (identical(e[[1]], as.name("paste0")) && is.null(names(parts))) {
    out <- list()
    for (p in parts[-1]) {
      if (is.list(p) && identical(p[[1]], "pasted")) p <- p[[2]]
      if (is.character(p) && length(out) && is.character(out[[length(out)]])) {
        out[[length(out)]] <- paste0(out[[length(out)]], p)
      } else {
        out <- c(out, list(p))
      }
    }
    if (length(out) == 1 && is.character(out[[1]])) return(out[[1]])
    return(c(list(as.name("paste0")), out))
  }
  parts
}

format_lines <- function(lines) {
  for (pass in 1:3) {
    laid <- new_printer(lines)$top()
    laid <- unlist(strsplit(paste0(laid, "\n"), "\n", fixed = TRUE))
    laid <- sub(" +$", "", laid)
    laid <- fill_comments(laid)
    if (!same_code(lines, laid)) stop("the code would change")
    if (identical(lines, laid)) break
    lines <- laid
  }
  lines
}

main <- function(files) {
  left <- 0
  for (f in files) {
    lines <- readLines(f, encoding = "UTF-8")
    if (!length(lines)) next
    new <- tryCatch(format_lines(lines), error = function(e) {
      message(f, ": ", conditionMessage(e))
      left <<- left + 1
      NULL
    })
    if (!is.null(new) && !identical(new, lines)) {
      writeLines(new, f, useBytes = TRUE)
      message(f, ": ", length(lines), " -> ", length(new), " lines")
    }
  }
  if (left) quit(status = 1)
}

if (!interactive() && sys.nframe() == 0) main(commandArgs(TRUE))
