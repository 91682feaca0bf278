autocmd BufRead,BufNewFile *.http setfiletype yieldtray
