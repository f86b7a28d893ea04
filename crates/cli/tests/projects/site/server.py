import functools, http.server, os, sys

folder, port = sys.argv[1:]
handler = functools.partial(http.server.SimpleHTTPRequestHandler, directory=folder)
server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
with open(port + ".new", "w") as file:
    file.write(str(server.server_port))
os.rename(port + ".new", port)
server.serve_forever()
