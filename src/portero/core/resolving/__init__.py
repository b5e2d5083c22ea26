"""Which policy wins, and why: compile a class's bundle, decide an attempt on it, explain it.

The contract is docs/explanation/resolution.md. This is the only implementation in the product.
"""
