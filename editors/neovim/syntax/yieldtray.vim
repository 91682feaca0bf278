" Colours for request files where the language server gives none.
if exists('b:current_syntax')
  finish
endif

syntax match yieldtrayComment /^#.*$/
syntax match yieldtrayTitle /^%%.*$/
syntax match yieldtrayInstruction /^%\s*\w\+/ nextgroup=yieldtrayRest
syntax match yieldtrayRest /.*$/ contained contains=yieldtrayText,yieldtrayMark,yieldtrayNumber
syntax match yieldtrayRequest /^\(GET\|POST\|PUT\|PATCH\|DELETE\|HEAD\|OPTIONS\)\ze\s/
syntax match yieldtrayHeader /^[A-Za-z][A-Za-z0-9-]*\ze:\s/
syntax region yieldtrayMark start=/{{/ end=/}}/ oneline containedin=ALLBUT,yieldtrayComment
syntax region yieldtrayText start=/"/ skip=/\\"/ end=/"/ oneline contains=yieldtrayMark
syntax match yieldtrayNumber /\<\d\+\>/ contained

highlight default link yieldtrayComment Comment
highlight default link yieldtrayTitle Title
highlight default link yieldtrayInstruction Keyword
highlight default link yieldtrayRequest Function
highlight default link yieldtrayHeader Identifier
highlight default link yieldtrayMark Special
highlight default link yieldtrayText String
highlight default link yieldtrayNumber Number

let b:current_syntax = 'yieldtray'
