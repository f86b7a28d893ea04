import sys, urllib.request

port, page = sys.argv[1:]
with open(port) as file:
    address = f"http://127.0.0.1:{file.read()}/{page}"
print(urllib.request.urlopen(address, timeout=5).read().decode(), end="")
