# What all parts of the page are made of.

# Text of others as text: no tag, no attribute.
escape <- function(x) htmltools::htmlEscape(printable(x, "[\\n\\t]"), attribute = TRUE)

page_script <- function() page_file("report.js")

# What the page may do: show its own styles and pictures, and run its one script. Whatever else
# should have got into it does nothing and fetches nothing.
page_policy <- function(script) {
  paste0(
    "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; ",
    "img-src data:; style-src 'unsafe-inline' data:; script-src ", script_print(script),
    "; base-uri 'none'; form-action 'none'\">"
  )
}

script_print <- function(script) {
  hash <- cli::hash_raw_sha256(charToRaw(enc2utf8(script)))
  bytes <- as.raw(strtoi(substring(hash, seq(1, 63, 2), seq(2, 64, 2)), 16L))
  paste0("'sha256-", jsonlite::base64_enc(bytes), "'")
}

page_file <- function(name) {
  lines <- readLines(system.file("report", name, package = "dreher"), encoding = "UTF-8")
  paste0(paste(lines, collapse = "\n"), "\n")
}

facts_html <- function(facts) {
  paste0(
    "<dl>",
    paste0(
      "<div><dt>", escape(names(facts)), "</dt><dd>", escape(facts), "</dd></div>",
      collapse = ""
    ),
    "</dl>"
  )
}
