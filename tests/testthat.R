library(testthat)
library(dreher)
test_check("dreher")
