"""Makes the files of Emberlow from its truth, one module a trade; `innerlamp.demo.generate` runs them all."""
