document.body.textContent = "Brisk Herald";
