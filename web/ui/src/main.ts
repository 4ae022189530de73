import { mount } from 'svelte';

import './app.css';
import App from './App.svelte';
import { startTheme } from './lib/theme.svelte';

startTheme();
mount(App, { target: document.getElementById('app')! });
