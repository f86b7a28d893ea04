;;; handloom.el --- Hand Loom's descriptions: colours, server, builds -*- lexical-binding: t -*-

;; Package-Requires: ((emacs "28.1"))
;; Keywords: languages, tools

;;; Commentary:

;; A mode for `hand.loom', which knows its comments, colours and indentation; the language server by eglot; and commands to
;; build from wherever one is in a project:
;;
;;   M-x handloom       runs `handloom WORDS'; messages of compilers can be jumped to
;;   M-x handloom-pick  offers what can be woven, run, watched and asked about, also with the file that is edited
;;   M-x handloom-stop  ends what runs
;;
;; Put this folder on the `load-path' and (require 'handloom) in your init file. `handloom-program' names the program.

;;; Code:

(require 'compile)
(require 'json)
(require 'seq)

(defvar eglot-server-programs)

(defgroup handloom nil "Building with Hand Loom." :group 'tools)

(defcustom handloom-program "handloom"
  "The program."
  :type 'string)

(defcustom handloom-indent-offset 2
  "How far a clause stands in."
  :type 'integer
  :safe #'integerp)

;;;; The mode

(defconst handloom--top
  '("let" "default" "target" "task" "include" "recipes" "supply" "setting" "env" "language"))

(defconst handloom--clauses
  '("about" "needs" "after" "each" "learn" "given" "let" "env" "in" "when" "takes" "limit" "retry" "on" "terminal"
    "remember" "stays" "sealed" "store" "always" "resumes" "guarded" "fleeting" "steps" "finally" "ready" "recipe"))

(defconst handloom--scripts '("recipe" "ready" "finally" "about")
  "Clauses below which text stands that is not ours.")

(defconst handloom--operators
  '("one of" "files" "file" "if there" "except" "secret" "or" "output" "match" "only" "value" "table" "take" "where" "into"
    "when" "is" "not" "has" "before" "above" "below" "and" "with" "lines" "watched"))

(defconst handloom--script-opens
  (concat "^[ \t]+" (regexp-opt handloom--scripts t) "\\_>[^:\n]*:[ \t]*$"))

(defun handloom--script-around ()
  "The line that opens the script which the line at point is a part of, or nil."
  (save-excursion
    (beginning-of-line)
    (let ((indent (if (looking-at-p "[ \t]*$") most-positive-fixnum (current-indentation)))
          found done)
      (while (and (not done) (zerop (forward-line -1)))
        (unless (looking-at-p "[ \t]*$")
          (when (< (current-indentation) indent)
            (setq indent (current-indentation))
            (when (looking-at-p handloom--script-opens)
              (setq found (point) done t)))
          (when (zerop (current-indentation))
            (setq done t))))
      found)))

(defun handloom--in-text (at)
  "Whether AT is in text that is not ours: a script, or what it is about."
  (save-excursion
    (goto-char at)
    (or (handloom--script-around)
        (progn
          (beginning-of-line)
          (and (looking-at (concat "[ \t]+" (regexp-opt handloom--scripts)
                                   "\\_>[^:\n]*:"))
               (>= at (match-end 0)))))))

(defun handloom--match (regexp)
  "A matcher for REGEXP outside of scripts."
  (lambda (limit)
    (let (found)
      (while (and (not found) (re-search-forward regexp limit t))
        (setq found
              (not (save-match-data
                     (handloom--in-text (match-beginning 0))))))
      found)))

(defconst handloom--font-lock
  `((,(handloom--match (concat "^" (regexp-opt handloom--top t) "\\_>")) 1 'font-lock-keyword-face)
    (,(handloom--match (concat "^[ \t]+" (regexp-opt handloom--clauses t) "\\_>")) 1 'font-lock-keyword-face)
    (,(handloom--match (concat "[ \t]" (regexp-opt handloom--operators t) "[ \t\n]")) 1 'font-lock-builtin-face)
    (,(handloom--match "\\_<\\([[:alpha:]_][[:alnum:]_-]*\\):[ \t]") 1 'font-lock-type-face)
    (,(handloom--match "<[[:alpha:]_][[:alnum:]_-]*\\(\\*\\*\\)?>") 0 'font-lock-constant-face)
    ("@{[^}\n]*}" 0 'font-lock-variable-name-face prepend)))

(defvar handloom-mode-syntax-table
  (let ((table (make-syntax-table)))
    (modify-syntax-entry ?# "<" table)
    (modify-syntax-entry ?\n ">" table)
    (modify-syntax-entry ?_ "_" table)
    (modify-syntax-entry ?- "_" table)
    (modify-syntax-entry ?' "." table)
    table))

(defun handloom--comment-starts (start end)
  "Between START and END, a `#' within a word begins no comment."
  (goto-char start)
  (while (re-search-forward "#" end t)
    (let ((at (1- (point))))
      (unless (memq (char-before at) '(nil ?\s ?\t ?\n))
        (put-text-property at (1+ at) 'syntax-table
                           (string-to-syntax "."))))))

(defun handloom--indentation ()
  "How far the line at point is to stand in."
  (save-excursion
    (beginning-of-line)
    (let* ((text (buffer-substring-no-properties (point) (line-end-position)))
           (is-empty (string-match-p "\\`[ \t]*\\'" text))
           (blank-above (save-excursion
                          (and (zerop (forward-line -1)) (looking-at-p "[ \t]*$")))))
      (if (not (re-search-backward "^[ \t]*[^ \t\n]" nil t))
          0
        (beginning-of-line)
        (let ((indent (current-indentation))
              (before (buffer-substring-no-properties (point) (line-end-position))))
          (cond
           ((string-match-p handloom--script-opens before) (+ indent handloom-indent-offset))
           ((handloom--script-around) indent)
           ((string-match-p "\\`[ \t]*\\(target\\|task\\|include\\|default\\|recipes\\|supply\\|setting\\|language\\)\\_>" text)
            0)
           ((and is-empty blank-above) 0)
           ((string-match-p "\\`[ \t]+\\(needs\\|after\\|each\\|steps\\|learn\\|takes\\)[ \t]*\\'" before)
            (+ indent handloom-indent-offset))
           ((zerop indent) (if (string-match-p "\\`\\(target\\|task\\)\\_>" before) handloom-indent-offset 0))
           (t indent)))))))

(defun handloom-indent-line ()
  "Indent the line at point; in a script once more to leave it as it is."
  (interactive)
  (let ((column (handloom--indentation))
        (behind (- (point-max) (point))))
    ;; What is in a script stands as far in as somebody wants it to.
    (unless (and (handloom--script-around) (> (current-indentation) 0) (not (looking-back "^[ \t]*" (line-beginning-position))))
      (indent-line-to column))
    (when (> (- (point-max) behind) (point))
      (goto-char (- (point-max) behind)))))

(defvar handloom-mode-map
  (let ((map (make-sparse-keymap)))
    (define-key map (kbd "C-c C-c") #'handloom-pick)
    (define-key map (kbd "C-c C-r") #'handloom)
    (define-key map (kbd "C-c C-k") #'handloom-stop)
    map))

;;;###autoload
(define-derived-mode handloom-mode prog-mode "Loom"
  "For the descriptions of Hand Loom."
  (setq-local comment-start "# ")
  (setq-local comment-start-skip "#+[ \t]*")
  (setq-local indent-tabs-mode nil)
  (setq-local indent-line-function #'handloom-indent-line)
  (setq-local syntax-propertize-function #'handloom--comment-starts)
  (setq-local font-lock-defaults '(handloom--font-lock)))

;;;###autoload
(add-to-list 'auto-mode-alist '("\\.loom\\'" . handloom-mode))

;;;; The server

(defun handloom--contact (&rest _)
  "What eglot is to start."
  (list handloom-program "language-server"))

(with-eval-after-load 'eglot
  (add-to-list 'eglot-server-programs '(handloom-mode . handloom--contact)))

;;;; Builds

(defun handloom-root ()
  "The folder of the project around here."
  (expand-file-name
   (or (locate-dominating-file default-directory "hand.loom")
       (user-error "There is no hand.loom here or above"))))

(defconst handloom--message
  '(handloom "^ *\\([^ \t\n:(][^:\n]*\\):\\([1-9][0-9]*\\):\\(?:\\([1-9][0-9]*\\):\\)?" 1 2 3))

(define-compilation-mode handloom-run-mode "Loom run"
  "What a run of Hand Loom prints."
  (setq-local compilation-error-regexp-alist-alist (cons handloom--message compilation-error-regexp-alist-alist))
  (setq-local compilation-error-regexp-alist (cons 'handloom compilation-error-regexp-alist))
  (setq-local compilation-scroll-output t))

(defun handloom-run (words)
  "Run the program with WORDS, a list, in the project around here."
  (let* ((default-directory (handloom-root))
         ;; Colours of compilers would stand in the way of their messages.
         (process-environment (cons "TERM=dumb" process-environment))
         (compilation-environment (cons "TERM=dumb" compilation-environment))
         (command (mapconcat #'shell-quote-argument (cons handloom-program words) " ")))
    (compilation-start command 'handloom-run-mode (lambda (_) "*handloom*"))))

;;;###autoload
(defun handloom (words)
  "Run `handloom WORDS' in the project around here."
  (interactive (list (read-string "handloom ")))
  (handloom-run (split-string-and-unquote words)))

;;;###autoload
(defun handloom-stop ()
  "End what runs, as from the keyboard."
  (interactive)
  (let* ((buffer (get-buffer "*handloom*"))
         (process (and buffer (get-buffer-process buffer))))
    (if process
        (interrupt-process process)
      (user-error "Nothing runs"))))

(defun handloom--goals ()
  "What can be asked for in the project around here.
Each is a list: what is shown, the words, and the names of values that
are still to be asked for."
  (let* ((default-directory (handloom-root))
         (file (and buffer-file-name (file-relative-name buffer-file-name default-directory)))
         (answer (with-temp-buffer
                   (let ((status (call-process handloom-program nil t nil "list" "--format" "json")))
                     (unless (eq status 0)
                       (user-error "%s" (string-trim (buffer-string)))))
                   (goto-char (point-min))
                   (json-parse-buffer :object-type 'alist :array-type 'list :null-object nil)))
         goals)
    (dolist (task (append (alist-get 'tasks answer) (alist-get 'own answer)))
      (let* ((name (alist-get 'name task))
             (about (or (alist-get 'about task) ""))
             (parameters (alist-get 'parameters task))
             (asks (mapcar (lambda (one) (alist-get 'name one))
                           (seq-remove (lambda (one) (or (alist-get 'default one) (alist-get 'choices one) (eq (alist-get 'rest one) t)))
                                       parameters))))
        (push (list (concat "run " name "  " about) (list "run" name) asks) goals)
        (when (and file parameters)
          (push (list (concat "run " name " " file "  " about) (list "run" name file) (cdr asks)) goals))))
    ;; Of a great many, whatever is not offered can be typed.
    (dolist (target (seq-take (alist-get 'targets answer) 1000))
      (dolist (output (alist-get 'outputs target))
        (dolist (verb '("weave" "why" "watch"))
          (push (list (concat verb " " output) (list verb output) nil) goals))))
    (nreverse goals)))

;;;###autoload
(defun handloom-pick ()
  "Pick what is to be done in the project around here."
  (interactive)
  (let* ((goals (handloom--goals))
         (chosen (completing-read "Hand Loom: " (mapcar #'car goals)))
         (goal (assoc chosen goals))
         (words (if goal (nth 1 goal) (split-string-and-unquote chosen))))
    (handloom-run
     (append words
             (mapcar (lambda (name) (read-string (concat name ": ")))
                     (nth 2 goal))))))

(provide 'handloom)
;;; handloom.el ends here
