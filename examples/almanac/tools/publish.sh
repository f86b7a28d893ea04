# publish.sh PAGE EDITION CHANNEL: puts the page on the harbour board, which is a folder here.
set -eu
board="out/board/$3"
mkdir -p "$board"
cp "$1" "$board/$2.html"
echo "put edition $2 on the $3 board"
