"""Object stores: which bucket is asked, who may read, what lies under a key."""
