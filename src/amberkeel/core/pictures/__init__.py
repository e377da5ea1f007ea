"""Pictures and mattes: the one reader and the one writer (OpenImageIO), and transfer functions (OpenColorIO)."""
