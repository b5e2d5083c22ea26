"""Programs as they are on a disk: what their files, their packages and their desktop entries say of them."""
