"""Signatures of lists and images: `check` asks `openpgp` and `cms`, with the keys of `keyring`.

1. Nothing is fetched. A key counts only if it lies in `keys/`, and `keys/keys.toml` says whose it
   is.
2. A signature is looked at in bounds: its size, the number of signatures in it, no packets but
   signatures (a compressed one could be a bomb).
3. What cannot be checked is `unchecked`, never good; what fails is `bad`, with what was seen.
"""
