package bucket

// TidyAll tidies, however young what is left is.
var TidyAll = (*Tree).tidy
