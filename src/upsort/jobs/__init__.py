"""One module per command's work: files and a plan in, a result out. Nothing here prints."""
